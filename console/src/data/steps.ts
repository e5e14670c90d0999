// What the pages ask of a run step by step.
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { answer, http } from './api';

/** A step of a run: of several of the name in one case, nth. */
export interface StepName {
  case: string;
  step: string;
  nth: number;
}

const again = (reading: boolean | undefined) => (reading ? 4_000 : false); // there will be more
const seldom = 15_000; // ms: what takes all legs together

export const useSteps = (run: string, done: boolean) =>
  useQuery({
    queryKey: ['steps', run, done],
    queryFn: () => answer(http.GET('/runs/{id}/steps', { params: { path: { id: run } } })),
    placeholderData: keepPreviousData,
    refetchInterval: (q) => (done ? again(q.state.data?.reading) : 4_000),
    staleTime: 10_000,
  });

export const useStep = (run: string, done: boolean, of: StepName | undefined) =>
  useQuery({
    queryKey: ['step', run, done, of],
    queryFn: () =>
      answer(http.GET('/runs/{id}/step', { params: { path: { id: run }, query: { case: of!.case, step: of!.step, nth: of!.nth } } })),
    enabled: of !== undefined,
    refetchInterval: (q) => (done ? again(q.state.data?.reading) : 4_000),
    staleTime: 10_000,
  });

export const useRemarks = (run: string, done: boolean) =>
  useQuery({
    queryKey: ['remarks', run, done],
    queryFn: () => answer(http.GET('/runs/{id}/remarks', { params: { path: { id: run } } })),
    placeholderData: keepPreviousData,
    refetchInterval: (q) => (done ? again(q.state.data?.reading) : seldom),
    staleTime: 10_000,
  });

export const useSlower = (run: string, done: boolean) =>
  useQuery({
    queryKey: ['slower', run, done],
    queryFn: () => answer(http.GET('/runs/{id}/slower', { params: { path: { id: run } } })),
    placeholderData: keepPreviousData,
    refetchInterval: (q) => (done ? again(q.state.data?.reading) : seldom),
    staleTime: 10_000,
  });

export interface LegsBeside {
  with: string;
  attempt: number;
  with_attempt: number;
  try: number;
  with_try: number;
  case: string;
}

export const useLegComparison = (leg: string, of: LegsBeside) =>
  useQuery({
    queryKey: ['legcomparison', leg, of],
    queryFn: () =>
      answer(http.GET('/legs/{id}/compare', {
        params: {
          path: { id: leg },
          query: {
            with: of.with || undefined, attempt: of.attempt || undefined, with_attempt: of.with_attempt || undefined,
            try: of.try || undefined, with_try: of.with_try || undefined, case: of.case || undefined,
          },
        },
      })),
    staleTime: 10_000,
    retry: false,
  });

export const useReferences = () =>
  useInfiniteQuery({
    queryKey: ['references'],
    queryFn: ({ pageParam }) => answer(http.GET('/references', { params: { query: { limit: 50, after: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    staleTime: 5_000,
  });

export const useReference = (id: string) =>
  useQuery({
    queryKey: ['reference', id],
    queryFn: () => answer(http.GET('/references/{id}', { params: { path: { id } } })),
    staleTime: 5_000,
    retry: false,
  });
