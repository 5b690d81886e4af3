import type { Schemas } from "../api/client";
import { span } from "../parts/time";

export type Setting = Schemas["CheckSetting"];

/** What a setting judges by, in words. */
export function settingText(s: Setting, unit = "") {
	if (s.off) return "off";
	const parts: string[] = [];
	const side = (word: string, limits?: Schemas["Limits"]) => {
		for (const level of ["notice", "warning", "critical"] as const) {
			const at = limits?.[level];
			if (at !== undefined) parts.push(`${level} ${word} ${at}${unit && ` ${unit}`}`);
		}
	};
	side("at or above", s.above);
	side("at or below", s.below);
	const otherwise = s.absent || s.check === "software" || (s.check === "setting" && s.value);
	if (s.level || parts.length === 0) parts.push(`${s.level || "warning"}${otherwise ? " otherwise" : ""}`);
	if (s.absent) parts.unshift("must not be there");
	else if (s.check === "software") parts.unshift(s.value ? `must be ${s.value} or later` : "must be there");
	else if (s.check === "setting" && s.value) parts.unshift(`must be ${s.value}`);
	if (s.fix) parts.push("corrected automatically");
	if (s.pattern) parts.push(`pattern ${s.pattern}`);
	if (s.for_seconds) parts.push(`for ${span(s.for_seconds)}`);
	return parts.join(", ");
}
