/** Something in a text that is not right. */
export interface Problem {
  /** From 1 on. */
  line: number;
  /** From 1 on. */
  character: number;
  message: string;
}

/** What is not right in a text, with its places. */
export function Problems({ problems }: { problems: Problem[] }) {
  return (
    <ul aria-live="polite" className="text-sm">
      {problems.map(({ line, character, message }) => (
        <li
          key={`${line} ${character} ${message}`}
          data-problem
          className="border-l-4 border-red px-3 py-0.5"
        >
          <span className="font-mono">
            line {line}, character {character}:
          </span>{" "}
          {message}
        </li>
      ))}
    </ul>
  );
}
