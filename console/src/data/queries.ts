// What the pages ask for. Each thing has one key, so that live events know where to put what has changed.
import { keepPreviousData, notifyManager, QueryClient, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import {
  answer, http, Refusal, type Fit, type Leg, type LogLevel, type PoolDefinition, type RunRequest, type Timeline, type Verdict,
} from './api';

notifyManager.setScheduler(queueMicrotask); // what an event changes is drawn in the next frame, not after a timer

export const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 60_000,
      refetchOnWindowFocus: false, // live events bring what changes
      retry: (n, e) => n < 2 && e instanceof Refusal && (e.status === 0 || e.status >= 500),
    },
  },
});

const meQuery = { queryKey: ['me'], queryFn: () => answer(http.GET('/me')), staleTime: Infinity, retry: false };
export const useMe = () => useQuery(meQuery);

/** What a key may do; core/access has the table. */
export type Action = 'see' | 'upload' | 'test' | 'share' | 'settings' | 'keys' | 'devices' | 'installation';

/** Whether who is signed in may do something. What they may not is not offered. */
export const useMay = (action: Action) => useMe().data?.may.includes(action) ?? false;

/** Asks who is signed in, before anything is drawn. */
export const expectMe = () => void client.prefetchQuery(meQuery);

export interface RunFilter {
  build?: string;
  package?: string;
  verdict?: Verdict;
  label?: string[];
  search?: string;
}

export const usePools = () =>
  useQuery({
    queryKey: ['pools'],
    queryFn: async () => (await answer(http.GET('/pools', { params: { query: { limit: 200 } } }))).items,
    staleTime: 10_000, // what they take changes as devices come and go
  });

export const usePool = (name: string) =>
  useQuery({
    queryKey: ['pools', name],
    queryFn: () => answer(http.GET('/pools/{name}', { params: { path: { name } } })),
    staleTime: 5_000,
  });

export const useTrial = (d: PoolDefinition | undefined) =>
  useQuery({
    queryKey: ['trial', d],
    queryFn: () => answer(http.POST('/pools/try', { body: d! })),
    enabled: d !== undefined,
    placeholderData: keepPreviousData,
    staleTime: 5_000,
    retry: false,
  });

export const useRuns = (filter: RunFilter, limit = 50) =>
  useInfiniteQuery({
    queryKey: ['runs', filter, limit],
    queryFn: ({ pageParam }) => answer(http.GET('/runs', { params: { query: { ...filter, limit, after: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
  });

export const useRun = (id: string) =>
  useQuery({
    queryKey: ['run', id],
    queryFn: () => answer(http.GET('/runs/{id}', { params: { path: { id } } })),
    enabled: id !== '',
    refetchInterval: (q) => (q.state.data?.legs.some((l) => l.place) ? 10_000 : false), // a place in the queue changes as others end
    structuralSharing: false, // live events leave what has not changed as it is; a run of hundreds of legs need not be compared anew
  });

/** What a run says. While it goes on, it is asked for now and then, once a leg of it has something to say. */
export const useAnswer = (id: string, over: boolean, wanted: boolean) =>
  useQuery({
    queryKey: ['answer', id, over],
    queryFn: () => answer(http.GET('/runs/{id}/answer', { params: { path: { id } } })),
    enabled: id !== '' && wanted,
    placeholderData: keepPreviousData,
    refetchInterval: over ? false : 4_000,
    staleTime: over ? 60_000 : 0,
  });

export const useBisection = (id: string) =>
  useQuery({
    queryKey: ['bisection', id],
    queryFn: () => answer(http.GET('/bisections/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.state === 'going' ? 2_000 : false),
  });

export const useComparison = (id: string, before: string) =>
  useQuery({
    queryKey: ['comparison', id, before],
    queryFn: () => answer(http.GET('/runs/{id}/compare', { params: { path: { id }, query: { with: before || undefined } } })),
    staleTime: 10_000,
    retry: false,
  });

export const useCaseHistory = (name: string, pkg: string, app: string) =>
  useQuery({
    queryKey: ['case', name, pkg, app],
    queryFn: () =>
      answer(http.GET('/cases/history', { params: { query: { case: name, package: pkg || undefined, app: app || undefined } } })),
    enabled: name !== '',
    staleTime: 10_000,
  });

const legQuery = (id: string) => ({ queryKey: ['leg', id], queryFn: () => answer(http.GET('/legs/{id}', { params: { path: { id } } })) });
export const useLeg = (id: string) => useQuery({ ...legQuery(id), refetchInterval: (q) => (q.state.data?.place ? 5_000 : false) });

const timelineQuery = (leg: string, attempt: number | undefined) => ({
  queryKey: ['timeline', leg, attempt],
  queryFn: () => wholeTimeline(leg, attempt),
});

/** So many events of a timeline are held by a tab; the rest is among the leg's files. */
export const mostEvents = 60_000;

/** A long timeline comes in windows. */
async function wholeTimeline(leg: string, attempt: number | undefined): Promise<Timeline> {
  const ask = (from?: string) => answer(http.GET('/legs/{id}/timeline', { params: { path: { id: leg }, query: { attempt, from } } }));
  const all = await ask();
  while (all.next !== undefined && all.events.length < mostEvents) {
    const more = await ask(all.next);
    all.events = all.events.concat(more.events);
    all.next = more.next;
  }
  return all;
}
export const useTimeline = (leg: string, attempt: number | undefined) =>
  useQuery({ ...timelineQuery(leg, attempt), enabled: attempt !== undefined });

/** Asks for a leg before its page is there; and for its last attempt, which the page will want first. */
export function expectLeg(id: string) {
  void client.prefetchQuery(legQuery(id)).then(() => {
    const l = client.getQueryData<Leg>(['leg', id]);
    const last = l?.attempts.at(-1);
    if (!last) return;
    void client.prefetchQuery(timelineQuery(id, last.number));
    if (last.artifacts.some((a) => a.kind === 'device-log')) void client.prefetchQuery(logOverviewQuery(id, last.number));
  });
}

export interface LogFilter {
  level?: LogLevel;
  tag?: string;
  text?: string;
}

export const logPage = 200;

/** One page of the log's rows that a filter chooses. UpTo says how far a log that grows has been seen: 0 for one that is whole. */
export const logPageQuery = (leg: string, attempt: number, filter: LogFilter, page: number, upTo = 0) => ({
  queryKey: ['log', leg, attempt, filter, page, upTo],
  queryFn: () =>
    answer(
      http.GET('/legs/{id}/log', { params: { path: { id: leg }, query: { attempt, ...filter, from: page * logPage, limit: logPage } } }),
    ),
  staleTime: Infinity,
});

/** The rows of the log about a moment. */
export const logNearQuery = (leg: string, attempt: number, filter: LogFilter, near: number, upTo = 0) => ({
  queryKey: ['lognear', leg, attempt, filter, near, upTo],
  queryFn: () => answer(http.GET('/legs/{id}/log', { params: { path: { id: leg }, query: { attempt, ...filter, near, limit: logPage } } })),
  staleTime: Infinity,
  gcTime: 10_000,
});

const logOverviewQuery = (leg: string, attempt: number) => ({
  queryKey: ['logoverview', leg, attempt],
  queryFn: () => answer(http.GET('/legs/{id}/log/overview', { params: { path: { id: leg }, query: { attempt } } })),
  staleTime: Infinity,
});
const growsEvery = 3000; // ms: hosts upload as often
export const useLogOverview = (leg: string, attempt: number, there: boolean, live: boolean) =>
  useQuery({
    ...logOverviewQuery(leg, attempt),
    ...(live && { staleTime: 0, refetchInterval: growsEvery, retry: false }),
    queryKey: ['logoverview', leg, attempt, live],
    enabled: there,
  });

/** The gauges of an attempt, from one moment to another; to 0: to its end. */
export const useGauges = (leg: string, attempt: number, from: number, to: number, there: boolean, live: boolean) =>
  useQuery({
    queryKey: ['gauges', leg, attempt, from, to, live],
    queryFn: () =>
      answer(http.GET('/legs/{id}/gauges', { params: { path: { id: leg }, query: { attempt, from, to: to || undefined } } })),
    staleTime: live ? 0 : Infinity,
    refetchInterval: live ? growsEvery : false,
    placeholderData: keepPreviousData,
    enabled: there,
    structuralSharing: false, // tens of thousands of numbers need not be compared
  });

export interface NetworkFilter {
  text?: string;
  failed?: boolean;
  order: 'time' | 'worst' | 'size';
}

export const networkPage = 200;

export const networkPageQuery = (leg: string, attempt: number, filter: NetworkFilter, page: number, upTo = 0) => ({
  queryKey: ['network', leg, attempt, filter, page, upTo],
  queryFn: () =>
    answer(
      http.GET('/legs/{id}/network', {
        params: { path: { id: leg }, query: { attempt, ...filter, from: page * networkPage, limit: networkPage } },
      }),
    ),
  placeholderData: keepPreviousData,
  staleTime: Infinity,
});

export const useNetworkOverview = (leg: string, attempt: number, there: boolean, live: boolean) =>
  useQuery({
    queryKey: ['networkoverview', leg, attempt, live],
    queryFn: () => answer(http.GET('/legs/{id}/network/overview', { params: { path: { id: leg }, query: { attempt } } })),
    staleTime: live ? 0 : Infinity,
    refetchInterval: live ? growsEvery : false,
    enabled: there,
  });

export const exchangeQuery = (leg: string, attempt: number, n: number) => ({
  queryKey: ['exchange', leg, attempt, n],
  queryFn: () => answer(http.GET('/legs/{id}/network/{n}', { params: { path: { id: leg, n }, query: { attempt } } })),
  staleTime: Infinity,
});

export const useSessions = (group: string) =>
  useInfiniteQuery({
    queryKey: ['sessions', group, ''],
    queryFn: ({ pageParam }) =>
      answer(http.GET('/sessions', { params: { query: { group: group || undefined, limit: 50, after: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    refetchInterval: (q) => (q.state.data?.pages[0]?.waiting ? 5_000 : false),
  });

export const useDeviceSessions = (serial: string) =>
  useQuery({
    queryKey: ['sessions', '', serial],
    queryFn: () => answer(http.GET('/sessions', { params: { query: { device: serial, limit: 50 } } })),
  });

/** What people hold, the newest first. */
export const useHolds = (q: { going?: boolean; device?: string }) =>
  useQuery({
    queryKey: ['holds', q.going ?? false, q.device ?? ''],
    queryFn: async () => (await answer(http.GET('/hands', { params: { query: { ...q, limit: 50 } } }))).items,
  });

export const useHold = (id: string) =>
  useQuery({
    queryKey: ['hold', id],
    queryFn: () => answer(http.GET('/hands/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.place ? 5_000 : false),
  });

export const useSnippet = (language: string, q: { build: string; where: string[] }) =>
  useQuery({
    queryKey: ['snippet', language, q],
    queryFn: () =>
      answer(http.GET('/snippets/{language}', { params: { path: { language }, query: { build: q.build || undefined, where: q.where } } })),
    placeholderData: keepPreviousData,
  });

export const useBuilds = () =>
  useInfiniteQuery({
    queryKey: ['builds'],
    queryFn: ({ pageParam }) => answer(http.GET('/builds', { params: { query: { limit: 50, after: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
  });

export const useBuild = (ref: string) =>
  useQuery({ queryKey: ['build', ref], queryFn: () => answer(http.GET('/builds/{ref}', { params: { path: { ref } } })) });

export const usePackages = () =>
  useInfiniteQuery({
    queryKey: ['packages'],
    queryFn: ({ pageParam }) => answer(http.GET('/packages', { params: { query: { limit: 50, after: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
  });

export const usePackage = (ref: string) =>
  useQuery({ queryKey: ['package', ref], queryFn: () => answer(http.GET('/packages/{ref}', { params: { path: { ref } } })) });

/** All devices: as many pages as there are. */
export const useDevices = () =>
  useQuery({
    queryKey: ['devices'],
    queryFn: async () => {
      const all = [];
      for (let after: string | undefined; ; ) {
        const page = await answer(http.GET('/devices', { params: { query: { limit: 200, after } } }));
        all.push(...page.items);
        if (!(after = page.next)) return all;
      }
    },
  });

/** Whether a build can run on devices, by serial. */
export const useFits = (build: string) =>
  useQuery({
    queryKey: ['fits', build],
    queryFn: async () => {
      const fits = new Map<string, Fit>();
      for (let after: string | undefined; ; ) {
        const page = await answer(http.GET('/devices', { params: { query: { limit: 200, after, build } } }));
        for (const d of page.items) if (d.fit) fits.set(d.serial, d.fit);
        if (!(after = page.next)) return fits;
      }
    },
    enabled: build !== '',
    staleTime: 10_000,
  });

/** What devices have to do, by serial. */
export const useLoads = () =>
  useQuery({
    queryKey: ['loads'],
    queryFn: async () => new Map((await answer(http.GET('/devices/loads'))).items.map((l) => [l.serial, l])),
    refetchInterval: 5_000,
    structuralSharing: false,
  });

export const useLabs = () =>
  useQuery({ queryKey: ['labs'], queryFn: async () => (await answer(http.GET('/labs'))).items, refetchInterval: 10_000 });

export const useLending = () => useQuery({ queryKey: ['lending'], queryFn: () => answer(http.GET('/lending')) });

export const useHosts = () =>
  useQuery({ queryKey: ['hosts'], queryFn: async () => (await answer(http.GET('/hosts'))).items, refetchInterval: 10_000 });

export const useKeys = (workspace: string) =>
  useQuery({
    queryKey: ['keys', workspace],
    queryFn: async () => (await answer(http.GET('/keys', { params: { query: { workspace: workspace || undefined } } }))).items,
    staleTime: 0,
  });

export const useWorkspaces = (wanted: boolean) =>
  useQuery({ queryKey: ['workspaces'], queryFn: async () => (await answer(http.GET('/workspaces'))).items, enabled: wanted, staleTime: 0 });

export const useDevice = (serial: string) =>
  useQuery({ queryKey: ['device', serial], queryFn: () => answer(http.GET('/devices/{serial}', { params: { path: { serial } } })) });

export const useDeviceLegs = (serial: string) =>
  useQuery({
    queryKey: ['devicelegs', serial],
    queryFn: () => answer(http.GET('/legs', { params: { query: { device: serial, limit: 50 } } })),
  });

export const usePlan = (q: RunRequest | undefined) =>
  useQuery({
    queryKey: ['plan', q],
    queryFn: () => answer(http.POST('/runs/check', { body: q! })),
    enabled: q !== undefined,
    placeholderData: keepPreviousData,
    staleTime: 5_000,
    retry: false,
  });
