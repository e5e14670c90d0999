// Which version of the service this page is of, and whether the service has become another.

export class Version {
  private first = '';
  private watchers = new Set<() => void>();
  newer = false;

  /** The service has said its version. The first one is the page's own: the page was loaded from it. */
  heard(version: string) {
    this.first ||= version;
    if (this.newer || version === this.first) return;
    this.newer = true;
    this.watchers.forEach((f) => f());
  }

  subscribe = (f: () => void) => {
    this.watchers.add(f);
    return () => void this.watchers.delete(f);
  };
}
