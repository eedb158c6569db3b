// Sets light or dark before the first paint, so that nothing flashes.
const kept = localStorage.getItem("innergate-theme");
const dark = kept ? kept === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.classList.toggle("dark", dark);
export {};
