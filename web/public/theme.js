// Runs before anything is drawn, so that a page never flashes in the other theme.
const wanted = localStorage.getItem("moorwatch theme");
const dark = wanted ? wanted === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.classList.toggle("dark", dark);
