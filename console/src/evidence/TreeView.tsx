// The screen's tree, one element below the other. It is one stop of Tab; the arrows go through it, and the element at hand is outlined
// on the screen, and its locator can be copied.
import { useEffect, useRef, useState, type KeyboardEvent } from 'react';
import styled from 'styled-components';
import { CopyButton, Faint, Mono, Row } from '../parts/page';
import { c, mono } from '../theme';
import { treeStep, type TreeNode } from './tree';

const Tree = styled.ol`
  font-family: ${mono}; font-size: 12px; line-height: 18px; overflow: auto; flex: 1; min-height: 140px; border: 1px solid ${c.grout};
  background: ${c.panel}; padding: 4px 0;
  li { white-space: nowrap; padding: 0 8px; width: max-content; min-width: 100%; }
  li[data-found='true'] { background: ${c.chosen}; box-shadow: inset 3px 0 ${c.failed}; }
  li:hover, li[data-at='true'] { background: ${c.hover}; }
  &:focus-visible li[data-at='true'] { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
`;

export function TreeView({ nodes, onPoint }: { nodes: TreeNode[]; onPoint: (n: TreeNode | undefined) => void }) {
  const box = useRef<HTMLOListElement>(null);
  const [at, setAt] = useState(-1);
  const [picked, setPicked] = useState<TreeNode>();
  const [of, setOf] = useState(nodes);
  if (of !== nodes) {
    setOf(nodes);
    setAt(-1);
    setPicked(undefined);
  }
  const first = nodes.findIndex((n) => n.found);
  useEffect(() => {
    const hit = box.current?.querySelector<HTMLElement>('[data-found=true]');
    if (hit && box.current) box.current.scrollTop = hit.offsetTop - box.current.offsetTop - box.current.clientHeight / 2;
  }, [first, nodes]);
  function key(e: KeyboardEvent) {
    const to = treeStep(nodes, at < 0 ? Math.max(first, 0) : at, e.key, at < 0);
    if (to === undefined) return;
    e.preventDefault();
    e.stopPropagation();
    setAt(to);
    setPicked(nodes[to]);
    onPoint(nodes[to]);
    document.getElementById(`tree-${to}`)?.scrollIntoView({ block: 'nearest' });
  }
  const leave = () => {
    setAt(-1);
    onPoint(undefined);
  };
  return (
    <>
      <Tree
        ref={box}
        tabIndex={0}
        role="tree"
        aria-label="The screen's tree"
        aria-activedescendant={at >= 0 ? `tree-${at}` : undefined}
        onKeyDown={key}
        onBlur={leave}
        onMouseLeave={() => onPoint(nodes[at])}
      >
        {nodes.map((n, i) => (
          <li
            key={i}
            id={`tree-${i}`}
            role="treeitem"
            aria-level={n.depth + 1}
            aria-selected={n.found}
            data-found={n.found}
            data-at={i === at}
            style={{ paddingLeft: 8 + n.depth * 12 }}
            onMouseEnter={() => onPoint(n)}
            onMouseDown={() => setPicked(n)}
          >
            {n.kind} <Faint>{n.says}</Faint>
          </li>
        ))}
      </Tree>
      {picked && (
        <Row $gap={8}>
          <Mono>{picked.locator()}</Mono>
          <CopyButton text={picked.locator()} what="the locator" />
        </Row>
      )}
    </>
  );
}
