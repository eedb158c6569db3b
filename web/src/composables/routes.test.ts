import { describe, expect, it } from "vitest";
import type { Routes } from "../api/client";
import { readRoutes, routeWords, writeRoutes } from "./routes";

const held = {
  rules: [
    {
      name: "partners",
      if: { mailDomains: ["northquay.example"], networks: ["10.0.0.0/8"] },
      to: ["northquay-stevedores"],
    },
    { if: {}, to: ["saltmere-staff", "harbour-register"] },
  ],
} as Routes;

describe("routes", () => {
  it("come back from the form as they were", () => {
    expect(JSON.parse(JSON.stringify(writeRoutes(readRoutes(held))))).toEqual(held.rules);
  });
  it("put two conditions of a kind together, and leave empty ones away", () => {
    const [one] = writeRoutes([
      {
        name: "",
        conditions: [
          { what: "groups", text: "crew" },
          { what: "groups", text: "office, quay" },
          { what: "wish", text: " " },
        ],
        to: "a",
      },
    ]);
    expect(one!.if).toEqual({ groups: ["crew", "office", "quay"] });
  });
  it("are told in sentences", () => {
    expect(readRoutes(held).map(routeWords)).toEqual([
      "partners: if mail at northquay.example and on the network 10.0.0.0/8 → northquay-stevedores",
      "everybody → saltmere-staff or harbour-register",
    ]);
  });
});
