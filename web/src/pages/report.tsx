import { useQuery } from "@tanstack/react-query";
import { Download, Printer } from "lucide-react";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { calls, result, type Schemas } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { exact, size, when } from "../format.ts";

type Item = Schemas["WorkReport"]["items"][number];

const day = 24 * 3600 * 1000;
const dayOf = (time: number) => new Date(time).toISOString().slice(0, 10);

/** What was done in a time, to be printed or kept. The time is in the address. */
export function ReportPage() {
  const [search, setSearch] = useSearchParams();
  const [now] = useState(() => Date.now());
  const since = search.get("since") ?? dayOf(now - 30 * day);
  const until = search.get("until") ?? dayOf(now);
  const query = { since: `${since}T00:00:00Z`, until: new Date(Date.parse(until) + day).toISOString() };
  const report = useQuery({
    queryKey: ["report", since, until],
    queryFn: () => result(calls.GET("/v1/report", { params: { query } })),
    placeholderData: (before) => before,
  });
  const pick = (name: string, value: string) => value && setSearch({ since, until, [name]: value }, { replace: true });
  const data = report.data?.report;
  return (
    <div className="space-y-6">
      <h1>What was done</h1>
      <div className="flex flex-wrap items-end gap-3 print:hidden">
        {[
          { name: "since", label: "From the day", value: since },
          { name: "until", label: "To the day, with it", value: until },
        ].map((field) => (
          <label key={field.name} className="block">
            <span className="text-sm">{field.label}</span>
            <input
              type="date"
              className="input"
              value={field.value}
              onChange={(event) => pick(field.name, event.target.value)}
            />
          </label>
        ))}
        <button type="button" className="btn" onClick={() => window.print()}>
          <Printer aria-hidden className="size-4" /> Print
        </button>
        {report.data && (
          <>
            <Save name={`report-${since}.json`} text={JSON.stringify(report.data.report, null, 2)} label="JSON" />
            <Save name={`report-${since}.jws`} text={report.data.signed} label="Signed" />
          </>
        )}
      </div>
      {report.error && <Failure error={report.error} />}
      {data && (
        <p>
          {data.jobs} jobs, {size(data.bytes_read)} read, {size(data.bytes_written)} written
          {Object.entries(data.outcomes).map(([outcome, n]) => (
            <span key={outcome}>
              {"; "}
              {n} {outcome}
            </span>
          ))}
          .
        </p>
      )}
      <ul className="space-y-3">
        {data?.items.map((item) => (
          <ItemSheet key={item.job} item={item} />
        ))}
      </ul>
      {data?.head && (
        <p className="text-sm">
          {data.receipts} receipts stand behind it, the last with the digest{" "}
          <span className="figures break-all">{data.head}</span>.
        </p>
      )}
    </div>
  );
}

function ItemSheet({ item }: { item: Item }) {
  const said = [...(item.said ?? []), ...(item.doubts ?? []), ...(item.remarks ?? [])];
  return (
    <li className="sheet space-y-2 py-4">
      <div className="flex flex-wrap justify-between gap-x-6">
        <Link className="link font-bold break-all" to={`/jobs/${item.job}`}>
          Job {item.job}, {item.kind} {item.subject}
        </Link>
        <span>
          {item.outcome}, {when(item.finished)}
          {item.who && `, ${item.who}`}
        </span>
      </div>
      {item.reason && <p>{item.reason}</p>}
      {item.disks.map((disk) => (
        <p key={disk.source + (disk.destination ?? "")} className="text-sm break-all">
          {disk.source}
          {disk.destination && ` to ${disk.destination}`}: {disk.outcome}
          {disk.fingerprint && <span className="figures block opacity-75">{disk.fingerprint}</span>}
        </p>
      ))}
      <p className="text-sm opacity-75">
        <span title={exact(item.bytes_read)}>{size(item.bytes_read)} read</span>,{" "}
        <span title={exact(item.bytes_written)}>{size(item.bytes_written)} written</span>
        {item.compared && `; compared: ${item.compared}`}
      </p>
      {said.length > 0 && (
        <ul className="list-disc pl-5 text-sm">
          {said.map((text) => (
            <li key={text}>{text}</li>
          ))}
        </ul>
      )}
    </li>
  );
}

/** Saves a text as a file. */
function Save({ name, text, label }: { name: string; text: string; label: string }) {
  return (
    <a className="btn" download={name} href={`data:application/octet-stream;charset=utf-8,${encodeURIComponent(text)}`}>
      <Download aria-hidden className="size-4" /> {label}
    </a>
  );
}
