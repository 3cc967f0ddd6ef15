import type { Turn } from "./options";

/** What was said so far. */
export function Turns({ turns }: { turns: Turn[] }) {
  if (turns.length === 0) return null;
  return (
    <section aria-label="Conversation">
      <ol tabIndex={0} className="flex max-h-80 flex-col gap-2 overflow-y-auto">
        {turns.map(({ role, content }, place) => (
          <li
            key={place}
            data-turn={role}
            className={`max-w-[85%] border px-3 py-1.5 whitespace-pre-wrap ${
              role === "user" ? "self-end border-line bg-shoal" : "border-line bg-paper"
            }`}
          >
            <span className="block text-xs text-faint">{role === "user" ? "you" : "answer"}</span>
            {content}
          </li>
        ))}
      </ol>
    </section>
  );
}
