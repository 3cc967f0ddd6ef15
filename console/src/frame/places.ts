import type { EndpointDetail, RecordedCall, ServiceStatus } from "../api/types";
import { ago } from "../numbers";
import { PAGES } from "./pages";

/** Something that one can go to: what it is, what it is called, and its address. */
export interface Place {
  kind: "page" | "endpoint" | "release" | "request";
  name: string;
  /** What tells it from others. */
  note: string;
  to: string;
}

const endpoint = (name: string) => `/console/endpoints/${encodeURIComponent(name)}`;
const request = (id: string) => `/console/requests/${encodeURIComponent(id)}`;

/** Everything that one can go to by its name. */
export function places(
  status: ServiceStatus | null,
  details: EndpointDetail[],
  calls: RecordedCall[],
): Place[] {
  const pages = PAGES.map(([path, name]): Place => ({
    kind: "page",
    name,
    note: "",
    to: `/console/${path}`,
  }));
  const served = (status?.endpoints ?? []).map(({ name, state }) => ({ name, state }));
  const resting = (status?.resting ?? []).map(({ name, state }) => ({ name, state }));
  const endpoints = [...served, ...resting].map(({ name, state }): Place => ({
    kind: "endpoint",
    name,
    note: state,
    to: endpoint(name),
  }));
  const releases = details.flatMap(({ name, releases }) =>
    releases.map(({ release, is_served, seconds_ago }): Place => ({
      kind: "release",
      name: `${name} release ${release}`,
      note: is_served ? "served now" : `${ago(seconds_ago)} ago`,
      to: `${endpoint(name)}#releases`,
    })),
  );
  const requests = calls.map((call): Place => ({
    kind: "request",
    name: call.id,
    note: `${call.endpoint}, ${call.outcome}, ${ago(call.seconds_ago)} ago`,
    to: request(call.id),
  }));
  return [...pages, ...endpoints, ...releases, ...requests];
}

/** Most places that are shown. */
const MOST = 12;
/** Letters from which on a text may be the beginning of a request's id. */
const LEAST_ID = 6;

/** The places that a text means, the best first: those whose name begins so, then those that hold every word. */
export function found(all: Place[], text: string): Place[] {
  const words = text.trim().toLowerCase().split(/\s+/).filter(Boolean);
  const holds = (place: Place) => {
    const said = `${place.name} ${place.kind} ${place.note}`.toLowerCase();
    return words.every((word) => said.includes(word));
  };
  const begins = (place: Place) => place.name.toLowerCase().startsWith(words[0] ?? "");
  const fitting = all.filter(holds);
  const best = [...fitting.filter(begins), ...fitting.filter((place) => !begins(place))];
  const id = words.length === 1 && words[0]!.length >= LEAST_ID ? words[0]! : null;
  if (best.length === 0 && id)
    return [{ kind: "request", name: id, note: "whose id begins so", to: request(id) }];
  return best.slice(0, MOST);
}
