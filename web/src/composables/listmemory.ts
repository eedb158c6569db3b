/** What a person chose of a list: filters and columns, kept in their browser. */
export function listMemory(who: string, path: string) {
  const key = (what: string) => `list:${who}:${path}:${what}`;
  const read = <T>(what: string, otherwise: T): T => {
    try {
      return JSON.parse(localStorage.getItem(key(what)) ?? "null") ?? otherwise;
    } catch {
      return otherwise;
    }
  };
  return {
    filters: () => read<Record<string, string>>("filters", {}),
    keepFilters: (filters: Record<string, string>) => localStorage.setItem(key("filters"), JSON.stringify(filters)),
    hidden: () => read<string[]>("hidden", []),
    keepHidden: (columns: string[]) => localStorage.setItem(key("hidden"), JSON.stringify(columns)),
  };
}
