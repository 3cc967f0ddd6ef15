/** What a service without a model shows: the way to the first answer. */
export function FirstSteps() {
  const steps = [
    ["Serve a model", "vastrelay start --demo"],
    ["Ask it something", 'vastrelay ask "When is the last boat back on Sunday?"'],
    ["See what load does", "vastrelay load run --users 8 --duration 20s"],
  ];
  return (
    <section className="mx-auto max-w-2xl border border-line bg-sheet p-6">
      <h2 className="text-lg font-semibold">Three steps to the first answer</h2>
      <ol className="mt-4 flex list-decimal flex-col gap-4 pl-6">
        {steps.map(([name, command]) => (
          <li key={name}>
            {name}
            <code className="mt-1 block bg-shoal px-3 py-2 font-mono text-sm">{command}</code>
          </li>
        ))}
      </ol>
    </section>
  );
}
