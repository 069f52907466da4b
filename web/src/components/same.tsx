import { Copy } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { AnyRequest } from "../api/client.ts";

/** What is asked for, as a command of the client and as a call of the API, and as a routine. */
export function Same({ request }: { request: AnyRequest }) {
  const text = JSON.stringify(request).replaceAll("'", "'\\''");
  return (
    <details className="text-sm">
      <summary className="cursor-pointer">The same by the client, by the API, or again and again</summary>
      <div className="mt-3 space-y-3">
        <ToCopy name="The command of the client" text={`echo '${text}' | bagaglio do -`} />
        <ToCopy
          name="The call of the API"
          text={`curl -H "Authorization: Bearer $BAGAGLIO_TOKEN" -H "Content-Type: application/json" -d '${text}' ${window.location.origin}/v1/plans`}
        />
        <Link className="btn btn-sm" to={`/routines?${new URLSearchParams({ request: JSON.stringify(request) })}`}>
          Keep it as a routine
        </Link>
      </div>
    </details>
  );
}

function ToCopy({ name, text }: { name: string; text: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <div className="flex items-start gap-2">
      <pre className="figures min-w-0 grow rounded-field bg-base-200 p-3 break-all whitespace-pre-wrap">{text}</pre>
      <button
        type="button"
        className="btn btn-sm btn-square"
        aria-label={`Copy: ${name}`}
        onClick={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}
      >
        <Copy aria-hidden className="size-4" />
      </button>
      {copied && (
        <span role="status" className="sr-only">
          It is copied.
        </span>
      )}
    </div>
  );
}
