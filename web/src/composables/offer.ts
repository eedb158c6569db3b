/** A value that could have been meant, and the field that it belongs into. */
export type Offer = { field: string; value: string };

/** Puts a value into its place, such as oidc.issuer or oidc.redirectUris[0]. */
export function put(into: object, path: string, value: string) {
  const steps = path.split(/[.[\]]+/).filter(Boolean);
  const last = steps.pop()!;
  let at = into as Record<string, unknown>;
  for (const step of steps) at = (at[step] ??= {}) as Record<string, unknown>;
  at[last] = value;
}
