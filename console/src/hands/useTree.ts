// The tree of a held screen: read again when the screen has come to rest; which element is chosen, and which is pointed at.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { answer, http } from '../data/api';
import { inside, lines, sizeOf } from './held';

export type HeldScreen = ReturnType<typeof useTree>;

/** Rested counts the times at which the screen came to rest. */
export function useTree(id: string, rested: number, wanted: boolean) {
  const [tried, setTried] = useState('');
  const [pick, setPick] = useState<{ i: number; css: string | undefined }>();
  const [over, setOver] = useState<number>();
  const tree = useQuery({
    queryKey: ['heldtree', id, tried],
    queryFn: () => answer(http.GET('/hands/{id}/tree', { params: { path: { id }, query: { find: tried || undefined } } })),
    retry: false,
    staleTime: 0,
    enabled: wanted,
    placeholderData: keepPreviousData,
  });
  const { refetch } = tree;
  useEffect(() => {
    if (rested > 0 && wanted) void refetch();
  }, [rested, refetch, wanted]);
  const elements = useMemo(() => tree.data?.elements ?? [], [tree.data]);
  const nodes = useMemo(() => lines(tree.data?.elements ?? [], tree.data?.found), [tree.data]);
  const size = useMemo(() => sizeOf(elements), [elements]);
  const bestOf = (i: number) => elements[i]?.locators[0]?.css;
  const at = pick && pick.css === bestOf(pick.i) ? pick.i : undefined; // another screen has another element there
  return {
    tree, tried, setTried, elements, nodes, size, at, over, setOver, picked: elements[at ?? -1],
    choose: (i: number | undefined) => setPick(i === undefined ? undefined : { i, css: bestOf(i) }),
    /** The element at a place, as parts of the screen. */
    under: (x: number, y: number) => inside(elements, x * size.w, y * size.h),
    secret: elements.some((e) => e.focused && e.password),
  };
}
