// The part of an attempt's time that the axis shows: all of it, or what was zoomed to. Pure.

/** From and to in ms on the attempt's clock. */
export interface Span {
  from: number;
  to: number;
}

const least = 200; // ms: nothing is drawn wider than that

/** A span that lies within 0 and end; one that is too narrow is made wider about its middle. */
export function within(s: Span, end: number): Span {
  const wide = Math.min(Math.max(Math.round(s.to - s.from), Math.min(least, end)), end);
  const middle = (s.from + s.to) / 2;
  const from = Math.round(Math.min(Math.max(middle - wide / 2, 0), end - wide));
  return { from, to: from + wide };
}

/** What an address says: "1200-3400"; all of the time where it says nothing that can be shown. */
export function readSpan(said: string, end: number): Span {
  const m = /^(\d{1,12})-(\d{1,12})$/.exec(said);
  const s = m && { from: Number(m[1]), to: Number(m[2]) };
  return s && s.to > s.from && s.from < end ? within(s, end) : { from: 0, to: end };
}

export const isWhole = (s: Span, end: number) => s.from <= 0 && s.to >= end;

export const writeSpan = (s: Span, end: number) => (isWhole(s, end) ? '' : `${s.from}-${s.to}`);

/** Closer (by less than 1) or farther, about a moment that stays where it is on the axis. */
export function zoomed(s: Span, by: number, about: number, end: number): Span {
  const at = Math.min(Math.max(about, s.from), s.to);
  const wide = Math.max((s.to - s.from) * by, Math.min(least, end));
  const left = (at - s.from) / Math.max(s.to - s.from, 1);
  const from = at - wide * left;
  if (wide >= end) return { from: 0, to: end };
  return within({ from, to: from + wide }, end);
}

/** Earlier (negative) or later, by a part of what is shown. */
export function moved(s: Span, by: number, end: number): Span {
  const step = (s.to - s.from) * by;
  const from = Math.min(Math.max(s.from + step, 0), end - (s.to - s.from));
  return { from: Math.round(from), to: Math.round(from + (s.to - s.from)) };
}
