// A picture of a screen, as large as its place allows, with elements outlined on it.
import { useState } from 'react';
import styled from 'styled-components';
import { placed } from '../parts/Pictured';
import { c } from '../theme';
import type { TreeNode } from './tree';

export const Glass = styled.div`
  flex: 1; min-height: 0; position: relative; display: flex; justify-content: center; align-items: flex-start; container-type: size;
  video, img { display: block; max-width: 100cqw; max-height: 100cqh; border: 1px solid ${c.grout}; }
  @media (max-width: 1000px) { height: 70vh; flex: none; }
`;
const Over = styled.div`
  position: absolute; inset: 0; display: flex; justify-content: center; align-items: flex-start; background: ${c.plaster};
  figure { position: relative; }
`;
const Frame = styled.span<{ $main: boolean }>`
  position: absolute; border: 2px solid ${(p) => (p.$main ? c.failed : c.lapis)}; box-shadow: 0 0 0 1px ${c.panel}; pointer-events: none;
`;

/** Elements outlined on a picture that is this large, in the pixels of their bounds. */
export function Frames({ nodes, w, h }: { nodes: Pick<TreeNode, 'bounds' | 'found'>[]; w: number; h: number }) {
  return nodes.map((n, i) => n.bounds && <Frame key={i} $main={n.found} data-outline={n.found} style={placed(n.bounds, w, h)} />);
}

/** Bounds are in the picture's own pixels. */
export function Outlined({ src, what, nodes }: { src: string; what: string; nodes: TreeNode[] }) {
  const [size, setSize] = useState<{ w: number; h: number }>();
  return (
    <Over>
      <figure>
        <img src={src} alt={what} onLoad={(e) => setSize({ w: e.currentTarget.naturalWidth, h: e.currentTarget.naturalHeight })} />
        {size && <Frames nodes={nodes} {...size} />}
      </figure>
    </Over>
  );
}
