export type FieldChange = { field: string; before: string; after: string };

const plain = (v: unknown): v is Record<string, unknown> => typeof v === "object" && v !== null && !Array.isArray(v);

/** A value without what says nothing: what is undefined, null, empty or false, at any depth. */
export function canonical(value: unknown): unknown {
  if (Array.isArray(value)) return value.length ? value.map((v) => canonical(v) ?? null) : undefined;
  if (plain(value)) {
    const held = Object.keys(value)
      .sort()
      .map((k) => [k, canonical(value[k])] as const)
      .filter(([, v]) => v !== undefined);
    return held.length ? Object.fromEntries(held) : undefined;
  }
  return value === null || value === "" || value === false ? undefined : value;
}

/** Whether two values say the same. */
export const alike = (a: unknown, b: unknown) => JSON.stringify(canonical(a)) === JSON.stringify(canonical(b));

function flatten(value: unknown, at: string, into: Map<string, string>) {
  if (plain(value)) for (const [k, v] of Object.entries(value)) flatten(v, at ? `${at}.${k}` : k, into);
  else if (Array.isArray(value) && value.some((v) => typeof v === "object"))
    value.forEach((v, i) => flatten(v, `${at}[${i}]`, into));
  else if (value !== undefined) into.set(at, Array.isArray(value) ? value.join("\n") : String(value));
}

/** What differs between two configurations, field by field, in the order of the first and then of the second. */
export function differences(before: unknown, after: unknown): FieldChange[] {
  const was = new Map<string, string>();
  const is = new Map<string, string>();
  flatten(canonical(before), "", was);
  flatten(canonical(after), "", is);
  return [...new Set([...was.keys(), ...is.keys()])]
    .map((field) => ({ field, before: was.get(field) ?? "", after: is.get(field) ?? "" }))
    .filter((c) => c.before !== c.after);
}

/** Steps of a path such as saml.acs[0].location. */
const steps = (path: string) => path.split(/[.[\]]+/).filter(Boolean);

/** The value at a path, or undefined. */
export const valueAt = (from: unknown, path: string): unknown =>
  steps(path).reduce<unknown>((at, s) => (at as Record<string, unknown> | undefined)?.[s], from);

// The parts that a configuration keeps even when nothing stands in them.
const kept = ["saml", "oidc", "guarded", "directory", "ldap", "kerberos"];

/** Puts a value at a path. Nothing, an empty text and an empty list are left out; false stays where true was before. */
export function putAt(into: object, path: string, value: unknown) {
  const way = steps(path);
  const last = way.pop()!;
  const passed = [into as Record<string, unknown>];
  for (const s of way) passed.push((passed.at(-1)![s] ??= {}) as Record<string, unknown>);
  const at = passed.at(-1)!;
  const nothing = value === undefined || value === "" || value === 0 || (Array.isArray(value) && !value.length);
  if (!nothing && (value !== false || at[last] !== undefined)) {
    at[last] = value;
    return;
  }
  delete at[last];
  for (let i = way.length - 1; i >= 0 && !kept.includes(way[i]!) && !Object.keys(passed[i + 1]!).length; i--)
    delete passed[i]![way[i]!];
}
