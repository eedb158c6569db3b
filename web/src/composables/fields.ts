import { computed } from "vue";

type Held = Record<string, unknown>;

/** Fields of a part of a configuration in the forms that inputs know: text, lines, a number, a switch. What is empty is left out. */
export function fieldsOf<T extends object>(held: () => T) {
  const at = () => held() as Held;
  const put = (name: keyof T & string, value: unknown) => {
    if (
      value === undefined ||
      value === "" ||
      value === false ||
      value === 0 ||
      (Array.isArray(value) && !value.length)
    )
      delete at()[name];
    else at()[name] = value;
  };
  return {
    text: (name: keyof T & string) =>
      computed({ get: () => String(at()[name] ?? ""), set: (v: string) => put(name, v.trim()) }),
    lines: (name: keyof T & string) =>
      computed({
        get: () => ((at()[name] as string[] | undefined) ?? []).join("\n"),
        set: (v: string) =>
          put(
            name,
            v
              .split("\n")
              .map((l) => l.trim())
              .filter(Boolean),
          ),
      }),
    words: (name: keyof T & string) =>
      computed({
        get: () => ((at()[name] as string[] | undefined) ?? []).join(" "),
        set: (v: string) => put(name, v.split(/[\s,]+/).filter(Boolean)),
      }),
    number: (name: keyof T & string) =>
      computed({
        get: () => (at()[name] ? String(at()[name]) : ""),
        set: (v: string) => put(name, Number(v) || undefined),
      }),
    flag: (name: keyof T & string) => computed({ get: () => !!at()[name], set: (v: boolean) => put(name, v) }),
  };
}
