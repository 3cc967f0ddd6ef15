import { FIELD } from "./Fields";

/** What is asked. */
export function Question({
  label,
  question,
  setQuestion,
}: {
  label: string;
  question: string;
  setQuestion: (question: string) => void;
}) {
  return (
    <label className="flex flex-col gap-1 text-sm">
      {label}
      <textarea
        name="question"
        rows={2}
        value={question}
        onChange={(event) => setQuestion(event.target.value)}
        className={`${FIELD} text-base`}
      />
    </label>
  );
}
