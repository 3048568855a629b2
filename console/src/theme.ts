// Runs before the page is drawn, so that a chosen theme does not flash.
const chosen = localStorage.getItem("theme");
if (chosen === "paper" || chosen === "lacquer") document.documentElement.dataset.theme = chosen;
