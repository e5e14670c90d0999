// The screen's tree, one element below the other. It is one stop of Tab; the arrows go through it. TreeList is told what is chosen;
// TreeView is a kept tree: the element at hand is outlined on the screen, and its locator can be copied.
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
  li:hover, li[data-over='true'], li[data-at='true'] { background: ${c.hover}; }
  li[data-at='true'] { outline: 1px solid ${c.lapis}; outline-offset: -1px; }
  &:focus-visible li[data-at='true'] { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
`;

interface List {
  nodes: Pick<TreeNode, 'depth' | 'kind' | 'says' | 'found'>[];
  at: number | undefined; // which one is chosen
  over?: number; // which one is pointed at elsewhere
  onAt: (i: number) => void;
  onOver: (i: number | undefined) => void;
  onBlur?: () => void;
}

export function TreeList({ nodes, at, over, onAt, onOver, onBlur }: List) {
  const box = useRef<HTMLOListElement>(null);
  const first = nodes.findIndex((n) => n.found);
  useEffect(() => {
    const hit = box.current?.querySelector<HTMLElement>('[data-found=true]');
    if (hit && box.current) box.current.scrollTop = hit.offsetTop - box.current.offsetTop - box.current.clientHeight / 2;
  }, [first, nodes]);
  useEffect(() => {
    if (at !== undefined) document.getElementById(`tree-${at}`)?.scrollIntoView({ block: 'nearest' });
  }, [at]);
  function key(e: KeyboardEvent) {
    const to = treeStep(nodes, at ?? Math.max(first, 0), e.key, at === undefined);
    if (to === undefined) return;
    e.preventDefault();
    e.stopPropagation();
    onAt(to);
  }
  return (
    <Tree
      ref={box}
      tabIndex={0}
      role="tree"
      aria-label="The screen's tree"
      aria-activedescendant={at !== undefined ? `tree-${at}` : undefined}
      onKeyDown={key}
      onBlur={onBlur}
      onMouseLeave={() => onOver(undefined)}
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
          data-over={i === over}
          style={{ paddingLeft: 8 + n.depth * 12 }}
          onMouseEnter={() => onOver(i)}
          onMouseDown={() => onAt(i)}
        >
          {n.kind} <Faint>{n.says}</Faint>
        </li>
      ))}
    </Tree>
  );
}

export function TreeView({ nodes, onPoint }: { nodes: TreeNode[]; onPoint: (n: TreeNode | undefined) => void }) {
  const [at, setAt] = useState<number>();
  const [picked, setPicked] = useState<TreeNode>();
  const [of, setOf] = useState(nodes);
  if (of !== nodes) {
    setOf(nodes);
    setAt(undefined);
    setPicked(undefined);
  }
  return (
    <>
      <TreeList
        nodes={nodes}
        at={at}
        onAt={(i) => {
          setAt(i);
          setPicked(nodes[i]);
          onPoint(nodes[i]);
        }}
        onOver={(i) => onPoint(nodes[i ?? at ?? -1])}
        onBlur={() => {
          setAt(undefined);
          onPoint(undefined);
        }}
      />
      {picked && (
        <Row $gap={8}>
          <Mono>{picked.locator()}</Mono>
          <CopyButton text={picked.locator()} what="the locator" />
        </Row>
      )}
    </>
  );
}
