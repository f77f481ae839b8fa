// The surround that was chosen, before the first paint. Not a module, so that no page flashes light.
try {
  if (localStorage.getItem("tanner.tone") === "dark") document.documentElement.dataset.tone = "dark";
} catch {
  // Without storage the pages are light.
}
