/** The patterns of a filter as it is typed: between blanks, but for those inside a pattern's quotes. */
export function patterns(typed: string): string[] {
  return (typed.match(/(?:"[^"]*"|\S)+/g) ?? []).map((p) => p.replaceAll('"', ''));
}
