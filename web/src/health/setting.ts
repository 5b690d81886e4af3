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
	side("from", s.above);
	side("down from", s.below);
	if (s.level || parts.length === 0) parts.push(s.level || "warning");
	if (s.absent) parts.unshift("is not wanted");
	else if (s.check === "software") parts.unshift(s.value ? `is wanted in ${s.value} or later` : "is wanted");
	if (s.check === "setting" && s.value) parts.unshift(`is to be ${s.value}`);
	if (s.fix) parts.push("put right by itself");
	if (s.pattern) parts.push(`pattern ${s.pattern}`);
	if (s.for_seconds) parts.push(`for ${span(s.for_seconds)}`);
	return parts.join(", ");
}
