// What is known before the first paint: the surround that was chosen, and what the page of shoots has to offer, so that nothing
// moves or flashes. Not a module: it runs at once.
try {
  const root = document.documentElement;
  if (localStorage.getItem("tanner.tone") === "dark") root.dataset.tone = "dark";
  if (localStorage.getItem("tanner.walk") !== "seen") root.dataset.walk = "offered";
  if (localStorage.getItem("tanner.place")) root.dataset.place = "kept";
} catch {
  // Without storage the pages are light, and nothing is offered.
}
