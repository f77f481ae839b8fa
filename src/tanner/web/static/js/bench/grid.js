// A grid lies over the picture while its geometry is changed, and a little longer.
const GRIDDED = /^(perspective\.|crop\.straighten|optics\.(distortion|own_distortion|projection))/;
let gridding = null;

export function grid(picture, key) {
  if (!GRIDDED.test(key)) return;
  picture.grid = true;
  clearTimeout(gridding);
  gridding = setTimeout(() => {
    picture.grid = false;
    picture.draw();
  }, 1500);
}
