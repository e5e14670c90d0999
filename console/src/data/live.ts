// Keeps what the pages look at true while things change: each change goes to every query that it concerns, and onto each answer that
// it overtook. What only the service can tell is fetched anew, one fetch at a time, and not more often than the pace.
import type { Query, QueryClient } from '@tanstack/react-query';
import { applied, isLive, stale, type Change } from './changes';
import { Journal } from './journal';

export const pace = 1_000; // ms between the end of a fetch and the next of the same

export class Live {
  private journal = new Journal<Change>();
  private owed = new Set<string>(); // queries whose fetch was already under way when they became stale
  private ended = new Map<string, number>(); // when a query's last fetch ended
  private timers = new Map<string, ReturnType<typeof setTimeout>>();

  constructor(private client: QueryClient) {}

  /** Follows the client's fetches; the answer ends that. */
  attach(): () => void {
    const off = this.client.getQueryCache().subscribe((e) => {
      const q = e.query as Query;
      if (!isLive(q.queryKey)) return;
      if (e.type === 'updated' && e.action.type === 'fetch') this.journal.begin(q.queryHash);
      else if (e.type === 'updated' && e.action.type === 'success' && !e.action.manual) this.answered(q);
      else if (e.type === 'updated' && e.action.type === 'error') this.failed(q);
      else if (e.type === 'observerRemoved' && q.getObserversCount() === 0)
        q.invalidate(); // nobody looks: it is fetched anew when somebody does
      else if (e.type === 'removed') this.forget(q.queryHash);
    });
    return () => {
      off();
      for (const t of this.timers.values()) clearTimeout(t);
      this.timers.clear();
    };
  }

  /** Something has changed. */
  change(c: Change) {
    this.journal.add(c);
    for (const q of this.client.getQueryCache().getAll()) {
      if (q.state.data !== undefined && isLive(q.queryKey)) this.put(q, [c]);
    }
  }

  private put(q: Query, changes: Change[]) {
    let data: unknown = q.state.data;
    for (const c of changes) {
      const next = applied(q.queryKey, data, c, (key) => this.client.getQueryData(key));
      if (next === stale) this.refetch(q);
      else data = next;
    }
    if (data !== q.state.data) q.setData(data, { updatedAt: q.state.dataUpdatedAt, manual: true });
  }

  private answered(q: Query) {
    this.ended.set(q.queryHash, Date.now());
    const came = this.journal.end(q.queryHash);
    const owed = this.owed.delete(q.queryHash);
    if (came) this.put(q, came);
    if (!came || owed) this.refetch(q);
  }

  private failed(q: Query) {
    this.ended.set(q.queryHash, Date.now());
    this.journal.end(q.queryHash);
    if (this.owed.delete(q.queryHash)) this.refetch(q);
  }

  /** Fetches a query anew where somebody looks at it; else when somebody does. */
  private refetch(q: Query) {
    if (!q.state.isInvalidated) q.invalidate();
    if (!q.isActive()) return;
    if (q.state.fetchStatus !== 'idle') return void this.owed.add(q.queryHash);
    if (this.timers.has(q.queryHash)) return;
    const wait = (this.ended.get(q.queryHash) ?? 0) + pace - Date.now();
    this.timers.set(q.queryHash, setTimeout(() => {
      this.timers.delete(q.queryHash);
      if (!q.isActive()) return;
      if (q.state.fetchStatus !== 'idle') return void this.owed.add(q.queryHash);
      void this.client.refetchQueries({ queryKey: q.queryKey, exact: true }, { cancelRefetch: false });
    }, Math.max(0, wait)));
  }

  private forget(hash: string) {
    this.journal.end(hash);
    this.owed.delete(hash);
    this.ended.delete(hash);
    clearTimeout(this.timers.get(hash));
    this.timers.delete(hash);
  }
}
