import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App";
import { ProblemError } from "./api/client";
import "./theme.css";

const queries = new QueryClient({
	defaultOptions: {
		queries: {
			// What the service refuses stays refused; what failed on the way is tried again.
			retry: (count, error) =>
				!(error instanceof ProblemError && error.problem.status >= 400 && error.problem.status < 500) && count < 2,
			staleTime: 10_000,
		},
	},
});

const root = document.getElementById("root");
if (root) {
	createRoot(root).render(
		<StrictMode>
			<QueryClientProvider client={queries}>
				<BrowserRouter>
					<App />
				</BrowserRouter>
			</QueryClientProvider>
		</StrictMode>,
	);
}
