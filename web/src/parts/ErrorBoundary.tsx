import { Component, type ReactNode } from "react";
import { ProblemAlert } from "./ProblemAlert";

/** Keeps a failure of one part of a page from taking the rest with it. */
export class ErrorBoundary extends Component<{ children: ReactNode }, { error?: unknown }> {
	override state: { error?: unknown } = {};

	static getDerivedStateFromError(error: unknown) {
		return { error };
	}

	override render() {
		if (this.state.error === undefined) return this.props.children;
		return (
			<div className="p-4">
				<ProblemAlert error={this.state.error} retry={() => this.setState({ error: undefined })} />
			</div>
		);
	}
}
