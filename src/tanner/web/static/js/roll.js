// A roll of frames, of which only what is near the window is in the page: drawn as it scrolls, its pictures of a chosen size.
import { byId } from "./dom.js";

// draw() is called once a screen frame while it scrolls
export function scrolled(roll, draw) {
  let ticking = false;
  roll.addEventListener("scroll", () => {
    if (ticking) return;
    ticking = true;
    requestAnimationFrame(() => {
      ticking = false;
      draw();
    });
  });
}

// The size is kept in this browser, the same for all rolls.
export function sized(arrange) {
  const size = byId("size");
  size.value = localStorage.getItem("tanner.size") || "176";
  size.addEventListener("input", () => {
    localStorage.setItem("tanner.size", size.value);
    arrange();
  });
}
