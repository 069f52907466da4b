import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { calls, items, type Rules } from "../api/client.ts";
import { Choice } from "./choice.tsx";
import { TextField } from "./text-field.tsx";

type Props = { rules: Rules; busy: boolean; change: (rules: Rules) => void };

const allocations = { "": "thin or thick", thin: "only thin", thick: "only thick" } as const;

/** A form for the rules of a pool, one by one. */
export function RulesForm({ rules, busy, change }: Props) {
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => items(calls.GET("/v1/formats")),
    staleTime: Infinity,
  });
  const [allocation, setAllocation] = useState<string>(rules.allocation ?? "");
  const accepted = (name: string) => !rules.accepts?.length || rules.accepts.some((a) => a.format === name);
  return (
    <form
      className="space-y-3"
      action={(form) => change(rulesFrom(form, rules, allocation, formats.data?.length ?? 0))}
    >
      <fieldset>
        <legend className="text-sm">Formats</legend>
        <div className="flex flex-wrap gap-x-4 gap-y-1">
          {formats.data?.map(({ name }) => (
            <Check key={name} name="format" value={name} label={name} begin={accepted(name)} />
          ))}
        </div>
      </fieldset>
      <Choice
        name="Allocation"
        value={allocation}
        options={Object.keys(allocations)}
        show={(a) => allocations[a as keyof typeof allocations]}
        change={setAllocation}
      />
      <div className="grid gap-3 sm:grid-cols-2">
        <TextField name="largest" label="Largest disk, in GiB" begin={inUnits(rules.largest_disk, 2 ** 30)} />
        <TextField name="units" label="Sizes in units of so many KiB" begin={inUnits(rules.granularity, 2 ** 10)} />
        <TextField name="names" label="File names" begin={rules.name} hint="UUIDEXT, MACHINE-NAMEEXT" />
        <TextField name="owner" label="Owner of files, UID:GID" begin={rules.owner} />
        <TextField name="mode" label="Mode of files" begin={rules.mode} hint="0640" />
      </div>
      <Check name="folders" label="A folder for each machine" begin={rules.machine_folders} />
      <Check name="resting" label="Not for machines that run" begin={rules.no_running} />
      <button type="submit" className="btn btn-sm btn-primary" disabled={busy}>
        Change what it accepts
      </button>
    </form>
  );
}

function Check(props: { name: string; label: string; value?: string; begin?: boolean }) {
  return (
    <label className="flex items-center gap-2">
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        name={props.name}
        value={props.value}
        defaultChecked={props.begin}
      />
      {props.label}
    </label>
  );
}

function inUnits(bytes: number | undefined, unit: number): string {
  return bytes ? String(bytes / unit) : "";
}

/** The rules that the form says. Layouts of a format stay as they were; all formats are the same as no rule for them. */
function rulesFrom(form: FormData, before: Rules, allocation: string, known: number): Rules {
  const text = (name: string) => String(form.get(name) ?? "").trim() || undefined;
  const bytes = (name: string, unit: number) => (text(name) ? Math.round(Number(text(name)) * unit) : undefined);
  const chosen = form.getAll("format").map(String);
  const narrowed = before.accepts?.some((a) => a.layouts?.length);
  return {
    traits: before.traits,
    accepts:
      chosen.length === known && !narrowed
        ? undefined
        : chosen.map((format) => before.accepts?.find((a) => a.format === format) ?? { format }),
    allocation: (allocation || undefined) as Rules["allocation"],
    largest_disk: bytes("largest", 2 ** 30),
    granularity: bytes("units", 2 ** 10),
    name: text("names"),
    owner: text("owner"),
    mode: text("mode"),
    machine_folders: form.get("folders") !== null || undefined,
    no_running: form.get("resting") !== null || undefined,
  };
}
