import { call } from "../api/call";
import { Confirm } from "../frame/Confirm";

/** Stops serving an endpoint, after a question. */
export function Stop({ name }: { name: string }) {
  const path = `/manage/endpoints/${encodeURIComponent(name)}/stop`;
  return (
    <Confirm
      name="Stop"
      title={`Stop ${name}?`}
      action={`Stop ${name}`}
      act={() => call(path, { method: "POST", body: "{}" })}
    >
      New requests are refused until it is started again. Those that run have a minute to end. Its
      spec is kept.
    </Confirm>
  );
}
