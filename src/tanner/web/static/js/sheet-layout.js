// Places set heads and pictures in rows; pure, so that it can be reasoned about without a page.

const HEAD = 34;
const GAP = 4;

const LINE = 34;

// groups: [{set, cells: [{frame, more, group}]}], set null without a head -> {items, order, height, columns}.
// Small sets share a row where they fit; in a list each frame has a line of its own.
export function place(groups, width, cell, list = false) {
  const columns = list ? 1 : Math.max(1, Math.floor((width - GAP) / (cell + GAP)));
  const pitch = (width - GAP) / columns;
  const h = list ? LINE : Math.round(cell * 0.72) + 36;
  const items = [];
  const order = [];
  let y = 0;
  let used = 0; // columns taken in the present row of sets
  const rowHeight = HEAD + GAP + h + GAP + 6;
  for (const group of groups) {
    const count = group.cells.length;
    const head = group.set ? HEAD : 0;
    if (used && used + count > columns) {
      y += rowHeight;
      used = 0;
    }
    const span = Math.min(Math.max(count, 1), columns);
    // The last column's head reaches to the edge, and a set that is alone in its row has the whole of it.
    const x = used * pitch;
    if (head) items.push({ key: `s${group.set.id}`, set: group.set, count, x, y, w: span * pitch - (used + span < columns ? GAP : 0), h: HEAD });
    group.cells.forEach(({ frame, more, group: folds }, i) => {
      const column = used + (i % columns);
      const row = Math.floor(i / columns);
      items.push({ key: `f${frame.id}`, frame, more, folds: Boolean(folds), x: GAP + column * pitch, y: y + head + GAP + row * (h + GAP), w: pitch - GAP, h });
      order.push(frame.id);
    });
    if (count >= columns) {
      y += head + GAP + Math.ceil(count / columns) * (h + GAP) + 6;
      used = 0;
    } else used += count;
  }
  return { items, order, height: used ? y + rowHeight : y, columns };
}
