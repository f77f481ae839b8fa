// A button after which the next click in the picture picks a place: shares of the picture's width and height.
export class PickTool {
  // took([x, y]) is called with the place; it ends the picking
  constructor(button, picture, took) {
    Object.assign(this, { button, picture, took });
    button.addEventListener("click", () => (this.picking ? this.stop() : this.begin()));
  }

  get picking() {
    return this.button.getAttribute("aria-pressed") === "true";
  }

  begin() {
    this.picture.tool = this;
    this.button.setAttribute("aria-pressed", "true");
  }

  stop() {
    this.button.setAttribute("aria-pressed", "false");
    if (this.picture.tool === this) this.picture.tool = null;
  }

  cursor() {
    return "crosshair";
  }

  down() {
    return true;
  }

  up(p) {
    const share = this.picture.share(p);
    if (!share) return;
    this.stop();
    this.took(share.slice(0, 2));
  }
}
