import { useAnswer } from "../api/useAnswer";

/** Which files of the service's machine this page may name. */
export function Roots() {
  const { value } = useAnswer<string[]>("/manage/roots");
  if (!value) return null;
  return (
    <p data-roots className="text-sm text-faint">
      Models, templates and device profiles that you name here lie in{" "}
      {value.map((root, index) => (
        <span key={root}>
          {index > 0 && ", "}
          <code className="font-mono">{root}</code>
        </span>
      ))}
      . Start the service with <code className="font-mono">--root DIR</code> to add a folder.
    </p>
  );
}
