/** A size in decimal units, as disks are sold. */
export function bytes(n: number) {
	const units = ["B", "kB", "MB", "GB", "TB", "PB"];
	let unit = 0;
	while (n >= 999.5 && unit < units.length - 1) {
		n /= 1000;
		unit++;
	}
	return `${unit === 0 || n >= 99.95 ? n.toFixed(0) : n.toFixed(1)} ${units[unit]}`;
}

/** A size of memory in binary units, as memory is sold. */
export function memory(n: number) {
	return `${(n / 2 ** 30).toFixed(n % 2 ** 30 ? 1 : 0)} GiB`;
}

/** A percentage without decimals; nothing for a reading that is not there. */
export function percent(n: number | undefined) {
	return n === undefined ? "" : `${n.toFixed(0)} %`;
}
