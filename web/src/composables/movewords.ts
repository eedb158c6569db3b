type Word = { text: string; state: string };

/** How an application stands before its move. */
export const verdicts: Record<string, Word> = {
  ready: { text: "ready", state: "sound" },
  look: { text: "look at it", state: "attention" },
  blocked: { text: "not ready", state: "broken" },
};

/** How the two ways of a sign-in compare. */
export const results: Record<string, Word> = {
  same: { text: "the same", state: "sound" },
  differs: { text: "differs", state: "broken" },
  failed: { text: "failed", state: "broken" },
  alone: { text: "nothing to compare with", state: "attention" },
  outside: { text: "not in the circle", state: "" },
};
