import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { parse } from "yaml";
import { calls, result } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { Prose } from "../components/prose.tsx";
import { SchemaView, type Schema } from "../components/schema-view.tsx";
import { SearchField } from "../components/search-field.tsx";

type Content = Record<string, { schema?: Schema }>;
type Parameter = { $ref?: string; name: string; in: string; required?: boolean; description?: string; schema?: Schema };
type Operation = {
  operationId: string;
  summary: string;
  description?: string;
  tags: string[];
  parameters?: Parameter[];
  requestBody?: { content: Content };
  responses: Record<string, { $ref?: string; description?: string; content?: Content }>;
  "x-role"?: string;
};
type Description = {
  info: { description: string };
  tags: { name: string; description: string }[];
  paths: Record<string, Record<string, Operation> & { parameters?: Parameter[] }>;
  components: { schemas: Record<string, Schema>; parameters: Record<string, Parameter> };
};
type Call = { method: string; path: string; shared: Parameter[]; operation: Operation };

const methods = ["get", "post", "put", "patch", "delete"];

/** All calls of the API, as the service itself describes them. */
export function CallsPage() {
  const [search, setSearch] = useState("");
  const description = useQuery({
    queryKey: ["description"],
    queryFn: async () => parse(await result(calls.GET("/v1/description", { parseAs: "text" }))) as Description,
    staleTime: Infinity,
  });
  const all = description.data;
  const found = Object.entries(all?.paths ?? {})
    .flatMap(([path, item]) =>
      methods.flatMap((method): Call[] => {
        const operation = item[method];
        return operation ? [{ method, path, shared: item.parameters ?? [], operation }] : [];
      }),
    )
    .filter((c) => `${c.method} ${c.path} ${c.operation.summary}`.toLowerCase().includes(search.toLowerCase()));
  return (
    <div className="space-y-6">
      <h1>The calls of the API</h1>
      {description.error && <Failure error={description.error} />}
      {all && <Prose text={all.info.description} />}
      <SearchField label="Only calls with" value={search} change={setSearch} />
      {all?.tags.map((tag) => {
        const here = found.filter((c) => c.operation.tags.includes(tag.name));
        return (
          here.length > 0 && (
            <section key={tag.name} className="sheet" aria-label={tag.name}>
              <h2>{tag.name}</h2>
              <p className="mb-3 opacity-75">{tag.description}</p>
              <div className="divide-y divide-base-300">
                {here.map((call) => (
                  <CallView key={call.operation.operationId} call={call} all={all} />
                ))}
              </div>
            </section>
          )
        );
      })}
      {all && found.length === 0 && <p>No call has that in it.</p>}
    </div>
  );
}

function CallView({ call, all }: { call: Call; all: Description }) {
  const [open, setOpen] = useState(false);
  const { operation } = call;
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer py-2">
        <span className="inline-block w-16 font-mono text-sm font-bold">{call.method.toUpperCase()}</span>
        <span className="figures break-all">{call.path}</span>
        <span className="block pl-16 text-sm opacity-80">{operation.summary}</span>
      </summary>
      {open && <Inside call={call} all={all} />}
    </details>
  );
}

function Inside({ call, all }: { call: Call; all: Description }) {
  const { operation } = call;
  const parameters = [...call.shared, ...(operation.parameters ?? [])].map((p) =>
    p.$ref ? (all.components.parameters[p.$ref.slice(p.$ref.lastIndexOf("/") + 1)] ?? p) : p,
  );
  const body = schemaOf(operation.requestBody?.content);
  const answers = Object.entries(operation.responses).filter(([code]) => code !== "default");
  const view = (schema: Schema) => <SchemaView schema={schema} named={all.components.schemas} />;
  return (
    <div className="space-y-3 pb-4 pl-4 text-sm">
      {operation.description && <Prose text={operation.description} />}
      <p>Who may: {operation["x-role"]}, and whoever may more.</p>
      {parameters.length > 0 && (
        <ul className="space-y-1">
          {parameters.map((p) => (
            <li key={p.in + p.name}>
              <code>{p.name}</code> in the {p.in}
              {!p.required && ", may be left out"}
              {p.description && `: ${p.description}`}
            </li>
          ))}
        </ul>
      )}
      {body && (
        <div>
          <p className="font-semibold">What is sent</p>
          {view(body)}
        </div>
      )}
      {answers.map(([code, answer]) => {
        const schema = schemaOf(answer.content);
        return (
          <div key={code}>
            <p className="font-semibold">
              {code}: {answer.description}
            </p>
            {schema && view(schema)}
          </div>
        );
      })}
    </div>
  );
}

function schemaOf(content?: Content): Schema | undefined {
  return Object.values(content ?? {})[0]?.schema;
}
