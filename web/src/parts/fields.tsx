import type { ReactNode, Ref } from "react";
import { Labelled } from "./Labelled";

// The fields of a form. Each is told its value and tells the next one; the browser checks what it can
// (required, patterns, bounds), the service the rest.

type Common = {
	label: string;
	hint?: string;
	hidden?: boolean; // the label is for screen readers alone, as the place says it already
	className?: string; // of the field, its width say
	required?: boolean;
	disabled?: boolean;
	placeholder?: string;
};

function Place({ label, hint, hidden, children }: Common & { children: ReactNode }) {
	return hidden ? (
		children
	) : (
		<Labelled label={label} hint={hint}>
			{children}
		</Labelled>
	);
}

const classes = (className = "") => `field ${className}`.trim();
const named = ({ label, hidden }: Common) => (hidden ? { "aria-label": label } : {});

type TextProps = Common & {
	value: string | undefined;
	onChange: (value: string) => void;
	type?: "text" | "email" | "password" | "search" | "time" | "date" | "datetime-local" | "url";
	maxLength?: number;
	minLength?: number;
	pattern?: string;
	title?: string;
	autoComplete?: string;
	autoFocus?: boolean;
	inputMode?: "numeric";
	list?: string;
	ref?: Ref<HTMLInputElement>;
};

/** A line of text. */
export function TextField({ label, hint, hidden, className, value, onChange, type = "text", ...rest }: TextProps) {
	const common = { label, hint, hidden };
	return (
		<Place {...common}>
			<input
				type={type}
				className={classes(className)}
				{...named(common)}
				{...rest}
				value={value ?? ""}
				onChange={(e) => onChange(e.target.value)}
			/>
		</Place>
	);
}

type AreaProps = Common & {
	value: string | undefined;
	onChange: (value: string) => void;
	rows?: number;
	maxLength?: number;
	spellCheck?: boolean;
};

/** A text of several lines. */
export function AreaField({ label, hint, hidden, className, value, onChange, ...rest }: AreaProps) {
	const common = { label, hint, hidden };
	return (
		<Place {...common}>
			<textarea
				className={classes(className)}
				{...named(common)}
				{...rest}
				value={value ?? ""}
				onChange={(e) => onChange(e.target.value)}
			/>
		</Place>
	);
}

type NumberProps = Common & {
	value: number | undefined;
	onChange: (value: number) => void; // NaN while nothing, or no number, is typed
	min?: number;
	max?: number;
	step?: number | "any";
};

/** A number. */
export function NumberField({ label, hint, hidden, className, value, onChange, ...rest }: NumberProps) {
	const common = { label, hint, hidden };
	return (
		<Place {...common}>
			<input
				type="number"
				className={classes(className)}
				{...named(common)}
				{...rest}
				value={value === undefined || Number.isNaN(value) ? "" : value}
				onChange={(e) => onChange(e.target.valueAsNumber)}
			/>
		</Place>
	);
}

type SelectProps<T extends string> = Common & {
	value: T | undefined;
	onChange: (value: T) => void;
	of?: readonly (T | readonly [value: T, name: string])[]; // or options as children
	children?: ReactNode;
};

/** One of several. */
export function SelectField<T extends string>({
	label,
	hint,
	hidden,
	className,
	value,
	onChange,
	of,
	children,
	...rest
}: SelectProps<T>) {
	const common = { label, hint, hidden };
	return (
		<Place {...common}>
			<select
				className={classes(className)}
				{...named(common)}
				{...rest}
				value={value ?? ""}
				onChange={(e) => onChange(e.target.value as T)}
			>
				{children}
				{of?.map((o) => {
					const [own, name] = typeof o === "string" ? [o, o] : o;
					return (
						<option key={own} value={own}>
							{name}
						</option>
					);
				})}
			</select>
		</Place>
	);
}

/** Something that is so or not. */
export function CheckField({
	checked,
	onChange,
	disabled,
	className = "flex items-center gap-2",
	children,
}: {
	checked: boolean | undefined;
	onChange: (checked: boolean) => void;
	disabled?: boolean;
	className?: string;
	children: ReactNode; // its label
}) {
	return (
		<label className={className}>
			<input
				type="checkbox"
				className="accent-heather"
				disabled={disabled}
				checked={checked ?? false}
				onChange={(e) => onChange(e.target.checked)}
			/>
			{children}
		</label>
	);
}
