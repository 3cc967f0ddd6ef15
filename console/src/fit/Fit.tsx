import { useSearchParams } from "react-router";
import type { FitAnswer } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { Empty, Trouble } from "../frame/State";
import { Arithmetic } from "./Arithmetic";
import { Command } from "./Command";
import { Curves } from "./Curves";
import { read, write, type Question } from "./question";
import { Settings } from "./Settings";
import { Splits } from "./Splits";
import { Verdict } from "./Verdict";

/** What would it take? */
export function Fit() {
  const { status } = useLive();
  if (!status) return <Empty>Connecting to the service…</Empty>;
  return <Asked endpoints={status.endpoints.map(({ name }) => name)} />;
}

function Asked({ endpoints }: { endpoints: string[] }) {
  const [query, setQuery] = useSearchParams();
  const question = read(query, endpoints[0] ?? "");
  const change = (changed: Partial<Question>) =>
    setQuery(write({ ...question, ...changed }), { replace: true });
  return (
    <div className="flex flex-col gap-5">
      <h2 className="text-lg font-semibold">Fit</h2>
      {question.model === "" ? (
        <div className="grid items-start gap-5 lg:grid-cols-[20rem_1fr]">
          <Settings question={question} answer={null} endpoints={endpoints} onChange={change} />
          <Empty>Name a model: a folder, a GGUF file or a config.json. Nothing is loaded.</Empty>
        </div>
      ) : (
        <Answered question={question} endpoints={endpoints} onChange={change} />
      )}
    </div>
  );
}

function Answered({
  question,
  endpoints,
  onChange,
}: {
  question: Question;
  endpoints: string[];
  onChange: (changed: Partial<Question>) => void;
}) {
  const { value: answer, error } = useAnswer<FitAnswer>(`/manage/fit?${write(question)}`);
  return (
    <div className="grid items-start gap-5 lg:grid-cols-[20rem_1fr]">
      <Settings question={question} answer={answer} endpoints={endpoints} onChange={onChange} />
      <div className="flex min-w-0 flex-col gap-5">
        {error && <Trouble error={error} />}
        {!answer && !error && <Empty>Reckoning…</Empty>}
        {answer && (
          <>
            <Verdict answer={answer} />
            <Splits answer={answer} onChoose={(split) => onChange({ split })} />
            <Curves answer={answer} />
            <Arithmetic answer={answer} />
            {answer.command && <Command command={answer.command} />}
          </>
        )}
      </div>
    </div>
  );
}
