import { ShieldAlert, ShieldCheck } from "lucide-react";
import { Link } from "react-router";
import type { Receipt } from "../api/client.ts";
import { ChangedFiles } from "./changed-files.tsx";
import { exact, placeName, size, span, speed, when } from "../format.ts";

const sentences: Record<Receipt["outcome"], string> = {
  proven: "Proven: what arrived is what left",
  unproven: "Not compared",
  failed: "Failed",
  cancelled: "Cancelled",
  damaged: "Done with damage",
};

function sentence(receipt: Receipt): string {
  if (receipt.kind === "undo" && receipt.outcome === "proven") return "Taken back: every file is the one that it was";
  if (receipt.kind === "remove" && receipt.outcome === "proven")
    return "Removed: every file that is held is the one that it was";
  return sentences[receipt.outcome];
}

/** Where a fingerprint comes from. */
const taken: Record<NonNullable<Receipt["source"]["fingerprint_from"]>, string> = {
  content: "taken of its content, read",
  part: "taken of what was read of it, with zeros for the rest, read",
  fitted: "taken of it as it was made to fit to its new size, read",
  folder: "taken of all names in it, with what its filesystem keeps of each, read",
  files: "taken of the source; its files were proven",
  tag: "said by its tag and not read now; made",
};

/** What a finished job proves. */
export function ReceiptView({ receipt }: { receipt: Receipt }) {
  const doubts = receipt.doubts ?? [];
  const good = receipt.outcome === "proven" && doubts.length === 0;
  const Icon = good ? ShieldCheck : ShieldAlert;
  const moved = receipt.steps.filter((s) => s.bytes > 0);
  return (
    <section aria-label="Receipt" className="sheet space-y-4">
      <h2 className={`flex items-center gap-2 ${good ? "text-success" : "text-warning"}`}>
        <Icon aria-hidden className="size-6" />
        {sentence(receipt)}
        {doubts.length > 0 && `; ${doubts.length} doubt(s) about the source`}
      </h2>
      {receipt.reason && <p>{receipt.reason}</p>}
      <dl className="grid gap-x-6 gap-y-3 sm:grid-cols-[auto_1fr]">
        <DiskRow name="Source" side={receipt.source} />
        {receipt.destination && <DiskRow name="Destination" side={receipt.destination} />}
        {receipt.against && (
          <Row name="Against">
            <span className="figures break-all">{receipt.against}</span>
          </Row>
        )}
        {receipt.tag && <Row name="Tag">{receipt.tag}</Row>}
        {receipt.porter && <Row name="Done by">the porter {receipt.porter}</Row>}
        {receipt.compared && <Row name="Compared">{receipt.compared}</Row>}
        <Row name="Moved">
          <span title={exact(receipt.bytes_read)}>{size(receipt.bytes_read)} read</span>
          {receipt.destination && (
            <span title={exact(receipt.bytes_written)}>, {size(receipt.bytes_written)} written</span>
          )}
          {moved.map((s) => `, ${s.name} at ${speed(s.bytes_per_second)}`).join("")}
        </Row>
        {moved.some((s) => s.limited_by) && (
          <Row name="Limited by">
            {moved
              .filter((s) => s.limited_by)
              .map((s) => `${s.limited_by} (${s.name}, ${Math.round(100 * (s.limited_share ?? 0))} % of the time)`)
              .join(", ")}
          </Row>
        )}
        {Boolean(receipt.skipped) && (
          <Row name="Not read">{exact(receipt.skipped ?? 0)}, which read as zeros in the new image</Row>
        )}
        {receipt.partitions?.map((p) => (
          <Row
            key={p.partition + (p.volume ?? "")}
            name={p.volume ?? (p.partition ? `Partition ${p.partition}` : "The disk")}
          >
            {[p.name || p.label, p.type, p.filesystem].filter(Boolean).join(", ")}: {travelled(p)}
          </Row>
        ))}
        {receipt.fit && (
          <Row name="Fitted">
            from {size(receipt.fit.before)} to {size(receipt.fit.size)}
          </Row>
        )}
        {receipt.fit?.parts
          .map((p) => ({ number: p.number, words: fitted(p) }))
          .filter((p) => p.words)
          .map((p) => (
            <Row key={p.number} name={p.number ? `Partition ${p.number}` : "The filesystem"}>
              {p.words}
            </Row>
          ))}
        {adaptedIn(receipt).map((a) => (
          <Row key={a.after} name="Changed">
            <p className="mb-2">
              on the proven copy, so that its guest starts in its new place:{" "}
              <span className="figures break-all">{a.before}</span> before,{" "}
              <span className="figures break-all">{a.after}</span> since
            </p>
            <ChangedFiles files={a.files} />
          </Row>
        ))}
        {receipt.unreadable?.map((r) => (
          <Row key={r.offset} name="Unreadable">
            {exact(r.length)} at offset {r.offset.toLocaleString("en")}
          </Row>
        ))}
        {receipt.damage?.map((h) => (
          <Row key={h.offset} name="Damaged">
            {exact(h.length)} at offset {h.offset.toLocaleString("en")}: {h.what}
          </Row>
        ))}
        {doubts.map((d) => (
          <Row key={d} name="Doubt">
            {d}
          </Row>
        ))}
        {receipt.remarks?.map((r) => (
          <Row key={r} name="Remark">
            {r}
          </Row>
        ))}
        {Boolean(receipt.passes) && (
          <Row name="While it ran">
            copied in {receipt.passes} {receipt.passes === 1 ? "pass" : "passes"}; its guest stood still for{" "}
            {((receipt.stopped_ms ?? 0) / 1000).toFixed(2)} s in all, at most
          </Row>
        )}
        {Boolean(receipt.resumed) && <Row name="Went on">{receipt.resumed} time(s) after it was interrupted</Row>}
        <Row name="Time">
          {when(receipt.started)}, took {span(receipt.seconds)}
        </Row>
      </dl>
    </section>
  );
}

/** What was changed on copies, of one disk or of each of several. */
function adaptedIn(receipt: Receipt): NonNullable<Receipt["adapted"]>[] {
  return [receipt, ...(receipt.parts ?? [])].flatMap((r) => r.adapted ?? []);
}

/** What was read of a partition, and what a check of its filesystem said. */
function travelled(p: NonNullable<Receipt["partitions"]>[number]): string {
  if (p.left) return "left out";
  const read = p.skipped
    ? `${size(p.length - p.skipped)} read of ${size(p.length)}`
    : `read whole${p.whole ? `, since ${p.whole}` : ""}`;
  return p.state ? `${read}; on the new image: ${p.state}` : read;
}

/** What became of a partition on a disk that got another size, nothing where it is as it was. */
function fitted(p: NonNullable<Receipt["fit"]>["parts"][number]): string {
  const words = [];
  if (p.length !== p.from_length) words.push(`from ${size(p.from_length)} to ${size(p.length)}`);
  if (p.offset !== p.from) words.push(`moved from ${size(p.from)} to ${size(p.offset)}`);
  if (p.files) words.push(`${p.files} files and folders are the same before and after`);
  if (p.note) words.push(p.note);
  return words.join("; ");
}

function DiskRow({ name, side }: { name: string; side: Receipt["source"] }) {
  const { pool, path } = side.place;
  return (
    <Row name={name}>
      <Link
        className="link font-medium break-all"
        to={
          pool?.endsWith(":/dev")
            ? "/devices"
            : `/disk?pool=${encodeURIComponent(pool ?? "")}&path=${encodeURIComponent(path)}`
        }
      >
        {placeName(side.place)}
      </Link>
      {side.format && (
        <span className="text-sm">
          {" "}
          {side.format}, {side.layout}; virtual {size(side.virtual_size)}, allocated {size(side.allocated_size)}, file{" "}
          {size(side.file_size)}
        </span>
      )}
      {side.fingerprint && <span className="figures block break-all">{side.fingerprint}</span>}
      {side.fingerprint_at && (
        <span className="block text-sm opacity-75">
          {taken[side.fingerprint_from ?? "content"]} {when(side.fingerprint_at)}
        </span>
      )}
    </Row>
  );
}

function Row({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <>
      <dt className="text-sm opacity-75">{name}</dt>
      <dd>{children}</dd>
    </>
  );
}
