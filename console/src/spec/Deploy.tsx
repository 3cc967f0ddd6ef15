import { lazy, Suspense, useState } from "react";
import { useNavigate } from "react-router";
import { useLive } from "../api/useLive";
import { Roots } from "../frame/Roots";
import { Empty } from "../frame/State";

// An editor is large, and few need it.
const SpecPanel = lazy(() => import("./SpecPanel"));

const FIRST = `# A folder of weights or a GGUF file on the service's machine.
model = ""

[batch]
width = 16

[replicas]
# idle_after = "10m"   # parked when nobody calls
`;

/** What would it take to serve this? */
export function Deploy() {
  const { status } = useLive();
  const [name, setName] = useState("");
  const navigate = useNavigate();
  const all = [...(status?.endpoints ?? []), ...(status?.resting ?? [])];
  const taken = all.some((endpoint) => endpoint.name === name);
  return (
    <div className="flex flex-col gap-4">
      <h2 className="text-lg font-semibold">Deploy an endpoint</h2>
      <label className="flex flex-col text-sm">
        <span>
          Name, which callers put into <code className="font-mono">model</code>
        </span>
        <input
          name="name"
          value={name}
          maxLength={100}
          autoComplete="off"
          onChange={(event) => setName(event.target.value.trim())}
          className="mt-1 h-8 w-64 border border-ink/60 bg-sheet px-2"
        />
      </label>
      {taken && (
        <p role="status" className="border-l-4 border-lamp bg-sheet px-3 py-2">
          There is an endpoint of this name: it will be changed.
        </p>
      )}
      <Roots />
      <Suspense fallback={<Empty>Loading the editor…</Empty>}>
        <SpecPanel
          name={name}
          text={FIRST}
          beside=""
          onDeployed={() => void navigate(`/console/endpoints/${encodeURIComponent(name)}`)}
        />
      </Suspense>
    </div>
  );
}
