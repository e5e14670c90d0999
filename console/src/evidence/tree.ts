// The screen's tree, as the service keeps it (XML in one vocabulary for all platforms), and what a locator means on it.

export interface Rect {
  left: number;
  top: number;
  right: number;
  bottom: number;
}

export interface TreeNode {
  depth: number;
  kind: string;
  says: string; // id, text, label, value
  bounds: Rect | undefined;
  found: boolean;
  locator: () => string; // that means this element alone
}

type Texts = Partial<Record<'id' | 'text' | 'label' | 'value', string | null>>;

/** What there is to know of an element, in a line. */
export function saysOf(e: Texts & { enabled: boolean; checked?: boolean; focused?: boolean }): string {
  const says = [
    e.id && `#${e.id}`,
    e.text && `“${e.text}”`,
    e.label && `label “${e.label}”`,
    e.value && `= ${e.value}`,
    !e.enabled && 'disabled',
    e.checked && 'checked',
    e.focused && 'focused',
  ];
  return says.filter(Boolean).join(' ');
}

function bounds(text: string | null): Rect | undefined {
  const n = (text ?? '').split(',').map(Number);
  return n.length === 4 && n.every(Number.isFinite) ? { left: n[0]!, top: n[1]!, right: n[2]!, bottom: n[3]! } : undefined;
}

/** What a locator means on the tree: CSS, or XPath where it begins as such, as core/uitree has it. */
export function found(doc: XMLDocument, locator: string): Set<Element> {
  const out = new Set<Element>();
  if (!locator) return out;
  try {
    if (/^(\/|\(|\.\/)/.test(locator.trim())) {
      const all = doc.evaluate(locator, doc, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE);
      for (let i = 0; i < all.snapshotLength; i++) if (all.snapshotItem(i) instanceof Element) out.add(all.snapshotItem(i) as Element);
    } else {
      doc.querySelectorAll(locator).forEach((e) => out.add(e));
    }
  } catch {
    // A locator that the browser does not understand means nothing here.
  }
  return out;
}

/** Where a key leads in a tree that is all open; undefined: nowhere. Entering: nothing is chosen yet; an arrow chooses the one at hand. */
export function treeStep(nodes: Pick<TreeNode, 'depth'>[], at: number, key: string, entering = false): number | undefined {
  const last = nodes.length - 1;
  const depth = nodes[at]?.depth;
  if (depth === undefined) return undefined;
  switch (key) {
    case 'ArrowDown':
      return entering ? at : Math.min(at + 1, last);
    case 'ArrowUp':
      return entering ? at : Math.max(at - 1, 0);
    case 'Home':
      return 0;
    case 'End':
      return last;
    case 'ArrowRight': // to its first child
      return nodes[at + 1] && nodes[at + 1]!.depth > depth ? at + 1 : at;
    case 'ArrowLeft': { // to its parent
      for (let i = at - 1; i >= 0; i--) if (nodes[i]!.depth < depth) return i;
      return at;
    }
    default:
      return undefined;
  }
}

/** Says of each element the shortest locator that means it alone: by its id, its text, its label, or by where it stands. */
export function locators(doc: XMLDocument): (e: Element) => string {
  const often = new Map<string, number>();
  const named = (e: Element) =>
    ['id', 'text', 'label'].flatMap((name) => {
      const value = e.getAttribute(name);
      if (!value || /[\n\r\f]/.test(value)) return [];
      if (name === 'id' && /^[A-Za-z_][\w-]*$/.test(value)) return [`#${value}`];
      return [`${name === 'id' ? '' : e.tagName}[${name}="${value.replace(/["\\]/g, '\\$&')}"]`];
    });
  for (const e of doc.querySelectorAll('*')) for (const l of named(e)) often.set(l, (often.get(l) ?? 0) + 1);
  const of = (e: Element): string => {
    const alone = named(e).find((l) => often.get(l) === 1);
    if (alone) return alone;
    if (!e.parentElement) return e.tagName;
    const nth = [...e.parentElement.children].filter((x) => x.tagName === e.tagName).indexOf(e) + 1;
    return `${of(e.parentElement)} > ${e.tagName}:nth-of-type(${nth})`;
  };
  return of;
}

/** The tree's elements from above, each with how deep it lies. */
export function readTree(xml: string, locator: string): TreeNode[] {
  const doc = new DOMParser().parseFromString(xml, 'application/xml');
  if (doc.querySelector('parsererror')) return [];
  const hits = found(doc, locator);
  const alone = locators(doc);
  const out: TreeNode[] = [];
  const walk = (e: Element, depth: number) => {
    const a = (name: string) => e.getAttribute(name);
    out.push({
      depth,
      kind: e.tagName,
      says: saysOf({
        id: a('id'), text: a('text'), label: a('label'), value: a('value'),
        enabled: a('enabled') !== 'false', checked: !!a('checked'), focused: !!a('focused'),
      }),
      bounds: bounds(a('bounds')),
      found: hits.has(e),
      locator: () => alone(e),
    });
    for (const child of e.children) walk(child, depth + 1);
  };
  for (const child of doc.documentElement.children) walk(child, 0);
  return out;
}
