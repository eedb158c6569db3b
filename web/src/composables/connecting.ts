import type { Application } from "../api/client";

export type ConnectStep = { id: string; title: string; done: boolean; text: string };

/** Whether the application's client proves itself by a secret that we give it. */
export const wantsSecret = (a: Application | null) =>
  ["client_secret_basic", "client_secret_post"].includes(a?.oidc?.authentication ?? "");

/** Whether the values are held without which no sign-in can go there, and what they are called. */
function theirs(a: Application): { taken: boolean; called: string } {
  if (a.guarded)
    return { taken: !!a.guarded.publicUrl && !!a.guarded.upstreams?.length, called: "public and inner address" };
  if (a.kind === "link") return { taken: !!a.startUrl, called: "address" };
  if (a.oidc) return { taken: !!a.oidc.redirectUris?.length, called: "redirect URI" };
  return { taken: !!a.saml?.entityId && !!a.saml.acs?.length, called: "entity ID and ACS URL" };
}

/** The steps of connecting an application, in their usual order, each with whether it is done and what is there. */
export function connecting(a: Application, known: { assigned: boolean; tried: boolean }): ConnectStep[] {
  const { taken, called } = theirs(a);
  const lacksSecret = wantsSecret(a) && !a.secrets?.length;
  const letIn = a.access?.to === "everybody" || known.assigned;
  const through = a.providers ?? [];
  return [
    {
      id: "give",
      title: "Give ours",
      done: !lacksSecret,
      text: lacksSecret ? "it has no client secret yet" : "ready since the draft was made",
    },
    { id: "take", title: "Take theirs", done: taken, text: `${called} ${taken ? "held" : "missing"}` },
    {
      id: "map",
      title: "Map",
      done: !!a.mapping?.length,
      text: a.mapping?.length ? `${a.mapping.length} attributes` : "no attributes yet",
    },
    {
      id: "who",
      title: "Who gets in",
      done: !!through.length && letIn,
      text: !through.length ? "choose a provider" : letIn ? through.join(", ") : "nobody is assigned",
    },
    {
      id: "rehearse",
      title: "Rehearse",
      done: known.tried,
      text: known.tried ? "a sign-in went through" : "not tried yet",
    },
    { id: "open", title: "Open", done: a.reach === "everyone", text: a.reach },
  ];
}
