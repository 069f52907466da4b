import type { Schemas } from "../api/client.ts";
import { size } from "../format.ts";

type FileChange = Schemas["FileChange"];

/** The files inside of a copy that are changed so that its guest starts in its new place. */
export function ChangedFiles({ files }: { files: FileChange[] }) {
  return (
    <ul className="space-y-3">
      {files.map((file) => (
        <li key={`${file.partition} ${file.logical ?? ""} ${file.path}`}>
          <p className="break-all">
            <span className="font-semibold">/{file.path}</span>{" "}
            <span className="text-sm opacity-75">
              {file.logical ?? (file.partition ? `on partition ${file.partition}` : "on the disk")}, {done(file)}
            </span>
          </p>
          <p className="text-sm">{sentence(file.why)}</p>
          {file.lines && <Lines path={file.path} lines={file.lines} />}
        </li>
      ))}
    </ul>
  );
}

function sentence(why: string): string {
  return `${why.charAt(0).toUpperCase()}${why.slice(1)}.`;
}

/** What is done with a file. */
function done(file: FileChange): string {
  switch (file.how) {
    case "append":
      return `${size(file.bytes ?? 0)} are put behind it`;
    case "remove":
      return "set aside";
    default:
      return file.was ? "changed" : "made";
  }
}

/** The lines of a text that differ; where they are is of no interest. */
function Lines({ path, lines }: { path: string; lines: string[] }) {
  return (
    <pre
      aria-label={`What changes in /${path}`}
      className="mt-1 overflow-x-auto rounded-box bg-base-200 px-3 py-2 font-mono text-xs"
    >
      {lines
        .filter((line) => !line.startsWith("@@"))
        .map((line, i) => (
          <span key={i} className={`block ${colors[line.charAt(0)] ?? "opacity-75"}`}>
            {line}
          </span>
        ))}
    </pre>
  );
}

const colors: Record<string, string> = { "+": "text-success", "-": "text-error" };
