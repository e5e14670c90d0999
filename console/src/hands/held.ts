// The elements of a held screen: pure.
import type { HeldElement } from '../data/api';
import { saysOf, type TreeNode } from '../evidence/tree';

/** The elements as the lines of a tree; found are those that a locator means, as indexes. */
export function lines(elements: HeldElement[], found: number[] = []): Omit<TreeNode, 'locator'>[] {
  const hits = new Set(found);
  return elements.map((e, i) => ({ depth: e.depth, kind: e.kind, says: saysOf(e), bounds: e.bounds, found: hits.has(i) }));
}

/** How large the screen is, as far as its elements tell. */
export function sizeOf(elements: Pick<HeldElement, 'bounds'>[]): { w: number; h: number } {
  return { w: Math.max(0, ...elements.map((e) => e.bounds.right)), h: Math.max(0, ...elements.map((e) => e.bounds.bottom)) };
}

/** The smallest element at a point, of several the one that comes last: it lies on top. Undefined: there is none. */
export function inside(elements: Pick<HeldElement, 'bounds'>[], x: number, y: number): number | undefined {
  let best: number | undefined;
  let least = Infinity;
  elements.forEach(({ bounds: b }, i) => {
    const area = (b.right - b.left) * (b.bottom - b.top);
    if (x >= b.left && x < b.right && y >= b.top && y < b.bottom && area > 0 && area <= least) {
      best = i;
      least = area;
    }
  });
  return best;
}

/** A text of the script language, in quotes (Starlark's, which are Python's). */
export const quoted = (s: string) => `'${s.replaceAll('\\', '\\\\').replaceAll("'", "\\'").replaceAll('\n', '\\n')}'`;

/** What a script does with the element: it types into a field, taps what can be tapped, and waits for all else. */
export function scriptLine(e: Pick<HeldElement, 'kind' | 'clickable'>, css: string): string {
  if (e.kind === 'field') return `phone.type(${quoted(css)}, '')`;
  return e.clickable || ['button', 'switch', 'checkbox'].includes(e.kind) ? `phone.tap(${quoted(css)})` : `phone.find(${quoted(css)})`;
}

/** The body of Find Element (WebDriver, section 12.3.2). */
export const request = (css: string) => JSON.stringify({ using: 'css selector', value: css });
