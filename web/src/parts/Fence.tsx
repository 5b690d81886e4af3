import { Component, type ReactNode } from "react";
import { Trouble } from "./Trouble";

/** Keeps a failure of one part of a page from taking the rest with it. */
export class Fence extends Component<{ children: ReactNode }, { error?: unknown }> {
	override state: { error?: unknown } = {};

	static getDerivedStateFromError(error: unknown) {
		return { error };
	}

	override render() {
		if (this.state.error === undefined) return this.props.children;
		return (
			<div className="p-4">
				<Trouble error={this.state.error} retry={() => this.setState({ error: undefined })} />
			</div>
		);
	}
}
