// A picture with regions marked on it, as wide as its place.
import { useState, type ReactNode } from 'react';
import styled from 'styled-components';
import type { Region } from '../data/api';
import { c } from '../theme';

const Whole = styled.span`position: relative; display: block; border: 1px solid ${c.grout}; background: ${c.plaster};`;
const Img = styled.img`display: block; width: 100%; min-height: 40px;`;
const Mark = styled.span`
  position: absolute; border: 2px solid ${c.failed}; box-shadow: 0 0 0 1px ${c.panel}; pointer-events: none;
  &[data-mask] { border: 1px solid ${c.lapis}; background: repeating-linear-gradient(45deg, ${c.lapis} 0 1px, transparent 1px 6px); }
`;

/** Where something lies on a picture of this size, in percent of it. */
export function placed(r: Region, w: number, h: number) {
  const part = (px: number, of: number) => `${(100 * px) / of}%`;
  return { left: part(r.left, w), top: part(r.top, h), width: part(r.right - r.left, w), height: part(r.bottom - r.top, h) };
}

export function Pictured(p: { src: string; alt: string; marked?: Region[]; masks?: Region[]; children?: ReactNode; eager?: boolean }) {
  const [size, setSize] = useState<{ w: number; h: number }>();
  return (
    <Whole>
      <Img
        src={p.src}
        alt={p.alt}
        draggable={false}
        loading={p.eager ? 'eager' : 'lazy'}
        onLoad={(e) => setSize({ w: e.currentTarget.naturalWidth, h: e.currentTarget.naturalHeight })}
      />
      {size && p.marked?.map((r, i) => <Mark key={i} style={placed(r, size.w, size.h)} />)}
      {size && p.masks?.map((r, i) => <Mark key={`m${i}`} data-mask="" style={placed(r, size.w, size.h)} />)}
      {p.children}
    </Whole>
  );
}
