// Rectangles that are drawn on a picture, or written. Pure.
import type { Region } from '../data/api';

const within = (v: number, most: number) => Math.round(Math.min(Math.max(v, 0), most));

/** The rectangle between two corners, whichever they are, inside of a picture of this size. */
export function drawn(a: { x: number; y: number }, b: { x: number; y: number }, w: number, h: number): Region {
  return {
    left: within(Math.min(a.x, b.x), w), top: within(Math.min(a.y, b.y), h),
    right: within(Math.max(a.x, b.x), w), bottom: within(Math.max(a.y, b.y), h),
  };
}

/** left,top,right,bottom; undefined: it is none, or lies outside of the picture. */
export function readRegion(said: string, w: number, h: number): Region | undefined {
  if (!/^\s*\d+\s*(,\s*\d+\s*){3}$/.test(said)) return undefined;
  const [left, top, right, bottom] = said.split(',').map(Number) as [number, number, number, number];
  return left < right && top < bottom && right <= w && bottom <= h ? { left, top, right, bottom } : undefined;
}

export const writeRegion = (r: Region) => [r.left, r.top, r.right, r.bottom].join(',');
