/** A line of a message, with the line behind which its inner part ends, where it has one. */
export type DocLine = { number: number; text: string; depth: number; until?: number };

/** The lines of a message as it is laid out: what stands deeper below a line is its inner part, and can be folded away. */
export function docLines(text: string): DocLine[] {
  const lines: DocLine[] = text.split("\n").map((text, i) => ({
    number: i + 1,
    text,
    depth: /^\s*/.exec(text)![0].length,
  }));
  const open: DocLine[] = [];
  for (const line of lines) {
    if (!line.text.trim()) continue;
    while (open.length && open.at(-1)!.depth >= line.depth) close(open.pop()!, line.number - 1);
    open.push(line);
  }
  while (open.length) close(open.pop()!, lines.length);
  return lines;
  function close(line: DocLine, last: number) {
    if (last > line.number) line.until = last;
  }
}

/** The lines that are seen while some are folded. */
export function seen(lines: DocLine[], folded: Set<number>): DocLine[] {
  const out: DocLine[] = [];
  let until = 0;
  for (const line of lines) {
    if (line.number <= until) continue;
    out.push(line);
    if (folded.has(line.number)) until = line.until ?? 0;
  }
  return out;
}

/** The numbers of the lines that hold a text, whatever the case. */
export const hits = (lines: DocLine[], text: string): number[] => {
  const wanted = text.trim().toLowerCase();
  return wanted ? lines.filter((l) => l.text.toLowerCase().includes(wanted)).map((l) => l.number) : [];
};

/** The numbers of the lines that another document doesn't have. */
export function unlike(lines: DocLine[], other: string): Set<number> {
  const known = new Set(other.split("\n").map((l) => l.trim()));
  return new Set(lines.filter((l) => l.text.trim() && !known.has(l.text.trim())).map((l) => l.number));
}
