import { flushPromises, mount, RouterLinkStub } from "@vue/test-utils";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { http, type Finding, type Station } from "../api/client";
import CopyValue from "./CopyValue.vue";
import DayBars from "./DayBars.vue";
import FilePick from "./FilePick.vue";
import FindingList from "./FindingList.vue";
import ObjectHead from "./ObjectHead.vue";
import Passage from "./Passage.vue";
import PersonPick from "./PersonPick.vue";
import ReachTag from "./ReachTag.vue";
import StepTitle from "./StepTitle.vue";
import TimeText from "./TimeText.vue";
import TwoValues from "./TwoValues.vue";

const global = { stubs: { RouterLink: RouterLinkStub } };
const finding = (severity: string, station: string, title = "What was found") =>
  ({ severity, station, title, detail: "Why.", code: title, remedy: "Mend it." }) as Finding;

describe("two values that should be equal", () => {
  it("stand one above the other, with what differs marked", () => {
    const w = mount(TwoValues, {
      props: {
        difference: {
          equal: false,
          head: "https://rota/acs",
          expected: "",
          got: "/",
          tail: "",
          hint: "A slash too many.",
        },
      },
    });
    expect(w.findAll("mark").map((m) => m.text())).toEqual(["/"]);
    expect(w.text()).toContain("expected");
    expect(w.text()).toContain("A slash too many.");
  });
  it("bear names of their own", () => {
    const w = mount(TwoValues, {
      props: {
        difference: { equal: false, head: "", expected: "a", got: "b", tail: "" },
        first: "registered",
        second: "sent",
      },
    });
    expect(w.findAll("small").map((s) => s.text())).toEqual(["registered", "sent"]);
  });
});

describe("a value to copy", () => {
  const write = vi.fn(() => Promise.resolve());
  beforeEach(() => {
    vi.useFakeTimers();
    vi.stubGlobal("navigator", { clipboard: { writeText: write } });
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });
  it("is copied whole, and says so for a moment", async () => {
    const w = mount(CopyValue, { props: { value: "urn:example:a", label: "the entity ID" } });
    await w.get("button").trigger("click");
    await flushPromises();
    expect(write).toHaveBeenCalledWith("urn:example:a");
    expect(w.get("button").text()).toBe("Copied");
    vi.advanceTimersByTime(1600);
    await flushPromises();
    expect(w.get("button").text()).toBe("Copy");
    expect(w.get("button").attributes("aria-label")).toBe("Copy the entity ID");
  });
});

describe("a time", () => {
  it("is the reader's, with UTC on hover", () => {
    const w = mount(TimeText, { props: { at: "2026-11-29T10:20:30.123Z" } });
    expect(w.get("time").attributes("title")).toBe("2026-11-29 10:20:30 UTC");
  });
  it("is never where there is none", () => {
    expect(mount(TimeText).text()).toBe("never");
  });
});

describe("a reach", () => {
  it("says by word and colour how far something is open", () => {
    expect(mount(ReachTag, { props: { reach: "everyone" } }).text()).toBe("Everyone");
    expect(mount(ReachTag, { props: { reach: "unheard-of" } }).text()).toBe("unheard-of");
  });
});

describe("findings", () => {
  it("say what, why and what to do", () => {
    const w = mount(FindingList, { props: { findings: [finding("broken", "access")] } });
    expect(w.text()).toContain("Broken");
    expect(w.text()).toContain("What to do: Mend it.");
  });
  it("say so where there are none, if that is asked for", () => {
    expect(mount(FindingList, { props: { findings: [], empty: "Nothing." } }).text()).toBe("Nothing.");
    expect(mount(FindingList, { props: { findings: [] } }).text()).toBe("");
  });
});

describe("the head of an object", () => {
  const head = (findings: Finding[], engineer = true) =>
    mount(ObjectHead, {
      props: { name: "Crew Rota", kind: "application", slug: "crew-rota", reach: "draft", findings, engineer },
      global,
    });
  it("counts what was found, and leads to the worst of it", async () => {
    const w = head([finding("remark", "mapping-out"), finding("broken", "application-trust")]);
    expect(w.get("[data-findings]").text()).toBe("2 findings");
    await w.get("[data-findings]").trigger("click");
    expect(w.emitted("station")).toEqual([["application-trust"]]);
  });
  it("counts nothing where nothing was found", () => {
    expect(head([]).find("[data-findings]").exists()).toBe(false);
  });
  it("has what is done rarely in one menu, for engineers alone", () => {
    expect(head([]).text()).toContain("More");
    expect(head([], false).text()).not.toContain("More");
  });
});

describe("the passage", () => {
  const station = (name: string, state = "sound") => ({ name, title: name, state, lines: [] }) as unknown as Station;
  const provider = (name: string) => ({ title: name, name, to: `/providers/${name}`, lines: [`${name}.example`] });
  const passage = (names: string[], through?: string) =>
    mount(Passage, {
      props: {
        application: { title: "Crew Rota", lines: ["rota.example"] },
        providers: names.map(provider),
        stations: [station("access"), station("provider-trust", "broken")],
        active: "access",
        through,
      },
      global,
    });
  it("leads to the station that is clicked, and marks the one that is shown", async () => {
    const w = passage(["staff"]);
    expect(w.findAll(".station").map((b) => b.attributes("aria-pressed"))).toEqual(["true", "false"]);
    await w.findAll(".station")[1]!.trigger("click");
    expect(w.emitted("choose")).toEqual([["provider-trust"]]);
  });
  it("says a station's state in a word, not by colour alone", () => {
    expect(passage(["staff"]).findAll(".station")[1]!.text()).toContain("broken");
  });
  it("speaks of the one provider that was chosen among several", async () => {
    const w = passage(["staff", "stevedores"], "stevedores");
    expect(w.text()).toContain("stevedores.example");
    expect(w.text()).not.toContain("staff.example");
    await w.get('[aria-label="Show the way through staff"]').trigger("click");
    expect(w.emitted("through")).toEqual([["staff"]]);
  });
  it("says how many more there are where they are many", () => {
    const w = passage(["a", "b", "c", "d", "e", "f", "g", "h"], "a");
    expect(w.text()).toContain("and 2 more");
  });
});

describe("a step of connecting", () => {
  it("folds to what is done and what is held", () => {
    const w = mount(StepTitle, { props: { step: { title: "Map", done: true, text: "4 attributes" } } });
    expect(w.findAll("span.title > *").map((e) => e.text())).toEqual(["✓", "Map", "4 attributes"]);
    const open = mount(StepTitle, { props: { step: { title: "Map", done: false, text: "no attributes yet" } } });
    expect(open.text()).toContain("○");
  });
});

describe("refusals by day", () => {
  it("are told in words as well", () => {
    const w = mount(DayBars, { props: { days: [{ at: "2026-11-28T12:00:00Z", refused: 3, signedIn: 9 }] } });
    expect(w.get("svg").attributes("aria-label")).toMatch(/3 refused/);
    expect(w.get(".bar").attributes("height")).toBe("40");
  });
  it("are not drawn where there are none", () => {
    const w = mount(DayBars, { props: { days: [{ at: "2026-11-28T12:00:00Z", refused: 0, signedIn: 9 }] } });
    expect(w.get(".bar").attributes("height")).toBe("0");
  });
});

describe("files to choose", () => {
  it("that come together are handed on together", async () => {
    const w = mount(FilePick, { props: { label: "Drop files here", many: true } });
    const upload = w.getComponent({ name: "ElUpload" });
    const onChange = upload.props("onChange") as (file: unknown) => void;
    onChange({ raw: new File(["a"], "a.yaml") });
    onChange({ raw: new File(["b"], "b.yaml") });
    await flushPromises();
    const emitted = w.emitted("files") as [File[]][];
    expect(emitted).toHaveLength(1);
    expect(emitted[0]![0].map((f) => f.name)).toEqual(["a.yaml", "b.yaml"]);
  });
});

describe("a person to pick", () => {
  afterEach(() => vi.restoreAllMocks());
  it("is found by what is typed; only the newest answer counts", async () => {
    const done: ((name: string) => void)[] = [];
    vi.spyOn(http, "GET").mockImplementation(
      (() =>
        new Promise((answer) =>
          done.push((name) =>
            answer({ data: { items: [{ id: name, name, type: "staff", active: true }] }, response: new Response() }),
          ),
        )) as never,
    );
    const w = mount(PersonPick, { props: { label: "Person" } });
    const find = w.getComponent({ name: "ElSelect" }).props("remoteMethod") as (text: string) => Promise<void>;
    const both = [find("Lo"), find("Lorna")];
    done[1]!("Lorna Quill");
    done[0]!("Lowri Penn");
    await Promise.all(both);
    expect(w.findAllComponents({ name: "ElOption" }).map((o) => o.props("label"))).toEqual(["Lorna Quill"]);
  });
});
