// Runs before anything is drawn, so that the page does not flash in the other theme.
document.documentElement.classList.add(
  localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"),
);
