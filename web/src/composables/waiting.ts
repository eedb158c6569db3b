import type { Finding } from "../api/client";

/** A line of what needs somebody: what it is, how urgent, and where it is dealt with. */
export type Line = { key: string; state: string; word: string; title: string; text: string; to: string };

type Found = Finding & { kind?: string; slug?: string; name?: string };
type Certificate = { owner: { name: string; kind?: string; slug?: string }; use: string; notAfter: string };
type Move = { name: string; slug: string; state: string; moved: number; applications: number };
type Statistics = { rateNow?: number; rateUsual?: number; refused?: number };
const fewRefusals = 5; // no share is made of so few

const rank: Record<string, number> = { broken: 0, attention: 1, remark: 2 };
const severity: Record<string, string> = { broken: "broken", attention: "to look at", remark: "remark" };
const day = 86400e3;

/** Where a finding is dealt with. */
export function placeOf(f: { kind?: string; slug?: string; station?: string }): string {
  if (f.kind === "key") return "/keyring";
  return f.kind === "source" ? `/sources/${f.slug}` : `/${f.kind}s/${f.slug}?station=${f.station}`;
}

const foundLine = (f: Found): Line => ({
  key: [f.code, f.kind, f.slug, f.title, f.detail].join("/"),
  state: f.severity === "remark" ? "" : f.severity,
  word: severity[f.severity] ?? f.severity,
  title: f.name ? `${f.name}: ${f.title}` : f.title,
  text: f.remedy ?? f.detail,
  to: placeOf(f),
});
const ofAKind = 2; // so many of the same are named one by one

/** What was found, the worst first. Where many have the same, the first are named, and the others are found in the checkup. */
export function foundLines(findings: Found[]): Line[] {
  const sorted = [...findings].sort((a, b) => (rank[a.severity] ?? 3) - (rank[b.severity] ?? 3));
  const same = new Map<string, Found[]>();
  for (const f of sorted) {
    const key = `${f.severity}/${f.code}`;
    same.set(key, [...(same.get(key) ?? []), f]);
  }
  return [...same.entries()].flatMap(([key, list]) => {
    if (list.length <= ofAKind + 1) return list.map(foundLine);
    const { code, title } = list[ofAKind]!;
    const others = {
      ...foundLine(list[ofAKind]!),
      key,
      title: `More of the same: ${title}`,
      to: `/checkup?code=${encodeURIComponent(code)}`,
    };
    return [...list.slice(0, ofAKind).map(foundLine), others];
  });
}

/** Certificates that end within so many days, or have ended. */
export const endingLines = (certificates: Certificate[], now: number, within = 60): Line[] =>
  certificates
    .map((c) => ({ c, days: Math.floor((new Date(c.notAfter).getTime() - now) / day) }))
    .filter(({ days }) => days < within)
    .sort((a, b) => a.days - b.days)
    .map(({ c, days }) => ({
      key: `${c.owner.name}/${c.use}/${c.notAfter}`,
      state: days < 0 ? "broken" : "attention",
      word: days < 0 ? "ended" : `${days} day${days === 1 ? "" : "s"}`,
      title: `${c.owner.name}: certificate for ${c.use}`,
      text: days < 0 ? "Nothing signed with it is accepted any more." : "Ask for the next one, or take it now.",
      to: "/keyring",
    }));

/** Changes that wait for somebody. */
export const proposalLines = (proposals: { id: string; kind?: string; name?: string; by?: string }[]): Line[] =>
  proposals.map((p) => ({
    key: p.id,
    state: "attention",
    word: "waits",
    title: p.name ? `${p.name}: a change is proposed` : "A change is proposed",
    text: p.by ? `by ${p.by}` : "",
    to: `/proposals/${p.id}`,
  }));

/** Moves that are under way. */
export const moveLines = (moves: Move[]): Line[] =>
  moves
    .filter((m) => m.state === "open")
    .map((m) => ({
      key: m.slug,
      state: "",
      word: "moving",
      title: m.name,
      text: `${m.moved} of ${m.applications} applications have moved`,
      to: `/moves/${m.slug}`,
    }));

/** Says so where clearly more is refused than usually. */
export function refusedLine(s: Statistics | null | undefined): Line[] {
  const { rateNow, rateUsual } = s ?? {};
  if (
    (s?.refused ?? 0) < fewRefusals ||
    rateNow === undefined ||
    rateNow <= 0.02 ||
    (rateUsual !== undefined && rateNow <= 2 * rateUsual)
  )
    return [];
  const percent = (r: number) => `${(r * 100).toFixed(1)} %`;
  return [
    {
      key: "refused",
      state: "attention",
      word: "refused",
      title: `${percent(rateNow)} of the last day's sign-ins were refused`,
      text: rateUsual === undefined ? "" : `Usually it is ${percent(rateUsual)}.`,
      to: "/statistics",
    },
  ];
}

/** Refused sign-ins of the last seven days against the seven before. */
export function againstLastWeek(days: { refused: number }[]): { now: number; before: number } {
  const sum = (list: { refused: number }[]) => list.reduce((n, d) => n + d.refused, 0);
  return { now: sum(days.slice(-7)), before: sum(days.slice(-14, -7)) };
}
