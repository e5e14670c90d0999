// The changes that came while something was being fetched. An answer may be older than a change that overtook it: what came since the
// fetch began is put onto the answer.

const most = 500; // changes that are kept for the longest fetch: a change of a large run may weigh 100 kB

export class Journal<C> {
  private kept: C[] = [];
  private first = 0; // the number of the oldest that is kept
  private begun = new Map<string, number>();

  /** A fetch begins. */
  begin(fetch: string) {
    this.begun.set(fetch, this.first + this.kept.length);
  }

  /** A change has come. It is kept only while something is being fetched. */
  add(change: C) {
    if (this.begun.size === 0) return;
    this.kept.push(change);
    if (this.kept.length > most) {
      this.kept.shift();
      this.first++;
    }
  }

  /** A fetch is over: what came since it began; undefined where that is no longer known. */
  end(fetch: string): C[] | undefined {
    const from = this.begun.get(fetch);
    this.begun.delete(fetch);
    const came = from === undefined ? [] : from < this.first ? undefined : this.kept.slice(from - this.first);
    if (this.begun.size === 0) {
      this.first += this.kept.length;
      this.kept = [];
    }
    return came;
  }

  get size() {
    return this.kept.length;
  }
}
