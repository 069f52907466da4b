import type { PlanRequest, Schemas } from "../api/client.ts";
import { size } from "../format.ts";
import { Choice } from "./choice.tsx";

type Props = { layout: Schemas["Layout"]; request: PlanRequest; change: (request: PlanRequest) => void };

const mib = 1 << 20;

/** The choices inside a layout, closed as long as nobody wants any. */
export function LayoutOptions({ layout, request, change }: Props) {
  const options: Record<string, string | number | undefined> = request.options ?? {};
  const set = (option: Schemas["Option"], value: string) => {
    const next = new Map(Object.entries(options));
    if (value === "" || value === option.values[0]) next.delete(option.name);
    else next.set(option.name, isNaN(Number(value)) ? value : Number(value));
    change({ ...request, options: Object.fromEntries(next) });
  };
  return (
    <details className="rounded-field border border-base-300 px-3 py-2">
      <summary className="cursor-pointer text-sm">More choices</summary>
      <div className="mt-3 grid grid-cols-2 gap-3">
        {layout.options.map((option) =>
          option.values.length > 0 ? (
            <Choice
              key={option.name}
              name={words(option.name)}
              value={String(options[option.name] ?? option.values[0])}
              options={option.values}
              show={(value) => (option.name.endsWith("_size") ? size(Number(value)) : value)}
              change={(value) => set(option, value)}
            />
          ) : (
            <label key={option.name} className="block">
              <span className="text-sm">{words(option.name)} in MiB</span>
              <input
                className="input w-full"
                type="number"
                min={(option.least ?? 0) / mib}
                max={(option.most ?? 0) / mib}
                placeholder={String((option.default ?? 0) / mib)}
                value={options[option.name] ? Number(options[option.name]) / mib : ""}
                onChange={(event) =>
                  set(option, event.target.value && String(Math.round(Number(event.target.value) * mib)))
                }
              />
            </label>
          ),
        )}
        <Choice
          name="Virtual size"
          value={String(request.round_to ?? 0)}
          options={["0", String(mib), String(1024 * mib)]}
          show={(value) => (value === "0" ? "as it is" : `rounded up to ${size(Number(value))}`)}
          change={(value) => change({ ...request, round_to: Number(value) || undefined })}
        />
      </div>
    </details>
  );
}

function words(name: string): string {
  return name.charAt(0).toUpperCase() + name.slice(1).replaceAll("_", " ");
}
