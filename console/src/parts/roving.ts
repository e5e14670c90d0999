// One stop of Tab for many links: the arrows go among them, and the one that was left last is where Tab comes back to.

/** Where a key leads in a row of so many; undefined: nowhere. */
export function stepIn(at: number, count: number, key: string): number | undefined {
  const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[key];
  const to = key === 'Home' ? 0 : key === 'End' ? count - 1 : step === undefined ? undefined : at + step;
  return to === undefined || to < 0 || to >= count ? undefined : to;
}

export interface Cell { row: number; col: number }

/** Where a key leads in a grid; cells that hold nothing are passed over. Undefined: nowhere. */
export function stepOn(at: Cell, rows: number, cols: number, key: string, holds: (c: Cell) => boolean): Cell | undefined {
  const by = { ArrowRight: [0, 1], ArrowLeft: [0, -1], ArrowDown: [1, 0], ArrowUp: [-1, 0], Home: [0, -1], End: [0, 1] }[key];
  if (!by) return undefined;
  const far = key === 'Home' || key === 'End';
  let found: Cell | undefined;
  for (let row = at.row + by[0]!, col = at.col + by[1]!; row >= 0 && row < rows && col >= 0 && col < cols; row += by[0]!, col += by[1]!) {
    if (!holds({ row, col })) continue;
    found = { row, col };
    if (!far) break;
  }
  return found;
}
