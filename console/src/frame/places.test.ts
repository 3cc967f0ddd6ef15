import { expect, test } from "vitest";
import type { EndpointDetail, RecordedCall, ServiceStatus } from "../api/types";
import { found, places } from "./places";

const STATUS = {
  endpoints: [{ name: "pierdesk", state: "ready" }],
  resting: [{ name: "dock", state: "parked" }],
} as ServiceStatus;
const DETAIL = {
  name: "pierdesk",
  releases: [{ release: 2, is_served: true, seconds_ago: 5 }],
} as EndpointDetail;
const CALL = { id: "3f9a7c01", endpoint: "pierdesk", outcome: "length", seconds_ago: 9 };
const ALL = places(STATUS, [DETAIL], [CALL as RecordedCall]);
const names = (text: string) => found(ALL, text).map(({ kind, name }) => `${kind} ${name}`);

test("pages, endpoints, releases and requests are found by their names", () => {
  expect(names("load")).toEqual(["page Load"]);
  expect(names("dock")).toEqual(["endpoint dock"]);
  expect(names("pier")[0]).toBe("endpoint pierdesk");
  expect(names("pierdesk release")).toEqual(["release pierdesk release 2"]);
  expect(names("3f9a")).toEqual(["request 3f9a7c01"]);
});

test("a long word that nothing is called may be a request's id", () => {
  expect(names("77aa00bb")).toEqual(["request 77aa00bb"]);
  expect(names("zz")).toEqual([]);
  expect(found(ALL, "").length).toBe(12);
});
