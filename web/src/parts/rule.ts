// Recurrence rules (RFC 5545) in words, as core/calendar says them.

const dayNames: Record<string, string> = {
	MO: "Monday",
	TU: "Tuesday",
	WE: "Wednesday",
	TH: "Thursday",
	FR: "Friday",
	SA: "Saturday",
	SU: "Sunday",
};

const units: Record<string, string> = { DAILY: "day", WEEKLY: "week", MONTHLY: "month", YEARLY: "year" };

function ordinal(n: number) {
	if (n % 100 >= 11 && n % 100 <= 13) return `${n}th`;
	return n + ({ 1: "st", 2: "nd", 3: "rd" }[n % 10] ?? "th");
}

const and = (names: string[]) =>
	names.length === 1 ? names[0] : `${names.slice(0, -1).join(", ")} and ${names.at(-1)}`;

function place(n: string, name: string) {
	if (n === "-1") return `last ${name || "day"}`;
	return /^[1-9]\d*$/.test(n) ? [ordinal(Number(n)), name].filter(Boolean).join(" ") : undefined;
}

/** A rule as people say it, such as "every Sunday"; one that says more than that as it is. */
export function ruleText(rule: string | undefined): string {
	if (!rule) return "once";
	const parts = new Map(
		rule
			.toUpperCase()
			.split(";")
			.map((p) => p.split("=", 2) as [string, string]),
	);
	if ([...parts].some(([k, v]) => v === undefined || !["FREQ", "INTERVAL", "BYDAY", "BYMONTHDAY"].includes(k)))
		return rule;
	const unit = units[parts.get("FREQ") ?? ""];
	const n = Number(parts.get("INTERVAL") ?? 1);
	if (!unit || !(n >= 1) || !Number.isInteger(n)) return rule;
	const every = n > 1 ? `every ${ordinal(n)} ${unit}` : `every ${unit}`;
	const [days, dates] = [parts.get("BYDAY"), parts.get("BYMONTHDAY")];
	if (!days && !dates) return every;
	if (unit === "week" && days && !dates) {
		if (days === "MO,TU,WE,TH,FR" && n === 1) return "Monday to Friday";
		const names = days.split(",").map((d) => dayNames[d]);
		if (!names.every((d): d is string => !!d)) return rule;
		return n === 1 ? `every ${and(names)}` : `${every} on ${and(names)}`;
	}
	if (unit !== "month" || (days && dates)) return rule;
	const names = days
		? days.split(",").map((d) => {
				const day = dayNames[d.slice(-2)];
				return day && d.length > 2 ? place(d.slice(0, -2), day) : undefined;
			})
		: (dates ?? "").split(",").map((d) => place(d, ""));
	return names.every((d): d is string => !!d) ? `on the ${and(names)} of ${every}` : rule;
}
