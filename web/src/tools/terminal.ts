import type { ITheme } from "@xterm/xterm";
import { colour } from "../parts/theme";

export const fontFamily = "'Source Code Pro Variable', monospace";
export const fontSize = 13.5;

/** The terminal's colours, from the theme. */
export function look(): ITheme {
	return {
		background: colour("page"),
		foreground: colour("word"),
		cursor: colour("heather"),
		selectionBackground: colour("heather-tint"),
		black: colour("panel"),
		red: colour("rowan"),
		green: colour("moss"),
		yellow: colour("gorse"),
		blue: colour("mist"),
		magenta: colour("heather"),
		cyan: colour("mist"),
		white: colour("word"),
		brightBlack: colour("faint"),
		brightRed: colour("rowan"),
		brightGreen: colour("moss"),
		brightYellow: colour("gorse-fill"),
		brightBlue: colour("mist"),
		brightMagenta: colour("heather-deep"),
		brightCyan: colour("mist"),
		brightWhite: colour("word"),
	};
}
