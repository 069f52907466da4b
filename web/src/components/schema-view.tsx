import { useState } from "react";
import { Prose } from "./prose.tsx";

/** A part of an OpenAPI schema, as far as it is shown. */
export type Schema = {
  $ref?: string;
  type?: string;
  format?: string;
  description?: string;
  enum?: string[];
  items?: Schema;
  properties?: Record<string, Schema>;
  required?: string[];
  additionalProperties?: Schema | boolean;
  allOf?: Schema[];
};

type Props = { schema: Schema; named: Record<string, Schema> };

/** What a body holds. What has a name of its own is opened when somebody wants to see it. */
export function SchemaView({ schema, named }: Props) {
  const name = nameOf(schema);
  if (name) return <Named name={name} named={named} />;
  if (schema.allOf) {
    return schema.allOf.map((part, i) => <SchemaView key={i} schema={part} named={named} />);
  }
  if (!schema.properties) return <p className="opacity-80">{typeOf(schema)}</p>;
  return (
    <ul className="space-y-1">
      {Object.entries(schema.properties).map(([key, value]) => (
        <li key={key}>
          <code>{key}</code> <span className="opacity-80">{typeOf(value)}</span>
          {!schema.required?.includes(key) && <span className="opacity-80">, may be absent</span>}
          {value.description && `: ${value.description}`}
          {inner(value) && (
            <div className="pl-4">
              <SchemaView schema={inner(value) as Schema} named={named} />
            </div>
          )}
        </li>
      ))}
    </ul>
  );
}

function Named({ name, named }: { name: string; named: Record<string, Schema> }) {
  const [open, setOpen] = useState(false);
  const schema = named[name];
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer">{name}</summary>
      {open && schema && (
        <div className="border-l border-base-300 pl-4">
          {schema.description && <Prose text={schema.description} />}
          <SchemaView schema={schema} named={named} />
        </div>
      )}
    </details>
  );
}

/** What of a property is shown below it. */
function inner(schema: Schema): Schema | undefined {
  if (nameOf(schema) || schema.properties || schema.allOf) return schema;
  if (schema.items) return inner(schema.items);
  return typeof schema.additionalProperties === "object" ? inner(schema.additionalProperties) : undefined;
}

function nameOf(schema: Schema): string | undefined {
  return schema.$ref?.slice(schema.$ref.lastIndexOf("/") + 1);
}

function typeOf(schema: Schema): string {
  if (nameOf(schema) || schema.allOf) return "";
  if (schema.enum) return `one of ${schema.enum.join(", ")}`;
  if (schema.type === "array") return `list of ${schema.items ? typeOf(schema.items) : ""}`.trim();
  if (schema.additionalProperties) return "object by names";
  return schema.format ? `${schema.type}, ${schema.format}` : (schema.type ?? "");
}
