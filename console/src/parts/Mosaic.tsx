// The mosaic of a run: a tile for each leg, laid by a trait, so that a cause shows as a patch.
import { memo, useLayoutEffect, useRef, useState, type FocusEvent, type KeyboardEvent } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import type { LegSummary } from '../data/api';
import { c, narrow, radius } from '../theme';
import { cases, compareValues, many, isCondition, platformNames, share, standing, traitName, traits, unit } from '../words';
import { stepIn } from './roving';
import { Tile } from './Tile';

/** Legs in groups of one value of a trait, in the order of the values. */
export function laid(legs: LegSummary[], by: string): { value: string; legs: LegSummary[] }[] {
  const groups = new Map<string, LegSummary[]>();
  const mixed = legs.some((l) => l.traits['platform'] !== legs[0]!.traits['platform']);
  const valueOf = (l: LegSummary) => {
    const v = l.traits[by] ?? '';
    // Versions of several systems have no order among each other.
    return by === 'os' && mixed && v ? `${platformNames[l.traits['platform'] ?? ''] ?? ''} ${v}`.trim() : v;
  };
  for (const l of legs) {
    const v = by === 'verdict' ? standing(l) : valueOf(l);
    const group = groups.get(v);
    if (group) group.push(l);
    else groups.set(v, [l]);
  }
  return [...groups].map(([value, legs]) => ({ value, legs })).sort((a, b) => compareValues(a.value, b.value));
}

/** The traits in which these legs differ. Devices do not change while a run goes on: what was found of the first of so many legs holds. */
export function differing(legs: LegSummary[]): string[] {
  const first = legs[0];
  if (!first) return [];
  const known = found.get(first.traits);
  if (known?.of === legs.length) return known.ways;
  const labels = new Set(legs.flatMap((l) => Object.keys(l.traits).filter((t) => t.startsWith('label:'))));
  const ways = [...Object.keys(traits), ...labels].filter((t) => legs.some((l) => l.traits[t] !== first.traits[t]));
  found.set(first.traits, { of: legs.length, ways });
  return ways;
}
const found = new WeakMap<object, { of: number; ways: string[] }>();

const Groups = styled.div`display: flex; flex-wrap: wrap; gap: 16px 24px; align-items: flex-end; ${narrow} { gap: 12px 16px; }`;
const Group = styled.figure`display: flex; flex-direction: column; gap: 4px; min-width: 0; max-width: 100%;`;
const Caption = styled.figcaption`
  font-size: 13px; line-height: 18px; color: ${c.faint}; border-top: 1px solid ${c.grout}; padding-top: 4px; white-space: nowrap;
  font-variant-numeric: tabular-nums;
`;
const Tiles = styled.ul<{ $size: number; $gap: number }>`
  display: grid; grid-template-columns: repeat(auto-fill, ${(p) => p.$size}px); gap: ${(p) => p.$gap}px; max-width: 100%;
  width: ${(p) => `calc(var(--columns) * ${p.$size + p.$gap}px - ${p.$gap}px)`};
  li { width: ${(p) => p.$size}px; contain: layout style paint; }
`;
const Spot = styled(Link)`
  display: flex; flex-direction: column; gap: 4px; border-radius: ${radius}; color: ${c.ink}; font-size: 13px; line-height: 18px;
  &:hover { text-decoration: none; filter: brightness(1.12); }
`;

const Kind = styled.span`
  display: block; color: ${c.faint}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; max-width: 56px;
`;

const faded = { opacity: 0.22 };

const legName = (l: LegSummary) => `${unit(l)}, ${l.model}, ${l.system}: ${standing(l)}${l.stage === 'done' ? '' : ` (${l.stage})`}`;

const One = memo(function One({ leg, size, named, stop, dim }: {
  leg: LegSummary;
  size: number;
  named: boolean;
  stop: boolean;
  dim: boolean;
}) {
  const more = [legName(leg), cases(leg), leg.now ?? '', leg.message ?? ''].filter(Boolean).join('\n');
  return (
    <li style={dim ? faded : undefined}>
      <Spot to={`/legs/${leg.id}`} aria-label={legName(leg)} title={more} tabIndex={stop ? 0 : -1} data-leg={leg.serial} data-id={leg.id}>
        <Tile what={standing(leg)} size={size} share={share(leg)} />
        {named && <span>{leg.serial}{leg.variant && <Kind>{leg.variant}</Kind>}</span>}
      </Spot>
    </li>
  );
});

/** Lit: the legs that are meant, where some are; the others fade. */
export function Mosaic({ legs, by, lit }: { legs: LegSummary[]; by: string; lit?: ReadonlySet<string> }) {
  const box = useRef<HTMLDivElement>(null);
  const [stop, setStop] = useState(''); // the leg where Tab comes to
  const focused = useRef('');
  const [size, gap] = legs.length <= 40 ? [56, 12] : legs.length <= 150 ? [28, 4] : legs.length <= 600 ? [18, 3] : [11, 2];
  const groups = laid(legs, by);
  const first = groups[0]?.legs[0]?.id ?? '';
  const stopAt = legs.some((l) => l.id === stop) ? stop : first;
  // A tile that goes to another patch is made anew there: the focus goes along.
  useLayoutEffect(() => {
    if (focused.current === '' || document.activeElement !== document.body) return;
    box.current?.querySelector<HTMLElement>(`[data-id="${CSS.escape(focused.current)}"]`)?.focus();
  });
  function onFocus(e: FocusEvent) {
    focused.current = (e.target as HTMLElement).dataset['id'] ?? '';
    setStop(focused.current);
  }
  function onBlur(e: FocusEvent) {
    const tile = e.target as HTMLElement;
    queueMicrotask(() => {
      // It went elsewhere. A tile that is taken away leaves it nowhere.
      if (tile.isConnected && document.activeElement !== tile) focused.current = '';
    });
  }
  // The arrow keys go from tile to tile; Tab goes past the mosaic.
  function move(e: KeyboardEvent) {
    const all = [...(box.current?.querySelectorAll<HTMLAnchorElement>('a') ?? [])];
    const at = all.indexOf(document.activeElement as HTMLAnchorElement);
    const to = at < 0 ? undefined : stepIn(at, all.length, e.key);
    if (to === undefined) return;
    e.preventDefault();
    all[to]!.focus();
  }
  const t = traits[by];
  return (
    <Groups
      ref={box}
      onKeyDown={move}
      onFocus={onFocus}
      onBlur={onBlur}
      role="group"
      aria-label={`${many(legs.length, legs.some((l) => l.variant) ? 'leg' : 'device')}, laid by ${traitName(by)}`}
    >
      {groups.map((g) => (
        <Group key={g.value}>
          <Tiles
            $size={size}
            $gap={gap}
            style={{ '--columns': Math.min(g.legs.length, Math.max(1, Math.round(Math.sqrt(g.legs.length * (size === 56 ? 5 : 2.5))))) }}
          >
            {g.legs.map((l) => (
              <One key={l.id} leg={l} size={size} named={size === 56} stop={l.id === stopAt} dim={lit !== undefined && !lit.has(l.id)} />
            ))}
          </Tiles>
          <Caption>
            {g.value ? [t?.before, g.value, t?.unit].filter(Boolean).join(' ') : isCondition(by) ? 'as it is' : 'not known'}
            {legs.length > 40 ? ` · ${g.legs.length}` : ''}
          </Caption>
        </Group>
      ))}
    </Groups>
  );
}
