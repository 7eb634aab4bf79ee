import { Collapsible } from "radix-ui";
import { type Document, type Operation, type Schema, useDocument } from "../api/document";
import { Card, Mono } from "../parts/basics";
import { BASE } from "../api/client";
import { QueryState } from "../parts/QueryState";
import { plural } from "../words";

const GROUPS: Record<string, string> = {
  predict: "Endpoints: ask a model",
  endpoints: "What endpoints serve",
  models: "Models and versions",
  packages: "Pushing packages",
  tokens: "Tokens and signing in",
  node: "The node",
};

/** What may be asked of this service, from its own OpenAPI document: true schemas, examples that work. */
export function DocsPage() {
  const query = useDocument();
  return (
    <QueryState query={query} loading="the document" height={480}>
      {(document) => <Operations document={document} />}
    </QueryState>
  );
}

function Operations({ document }: { document: Document }) {
  const operations = operationsOf(document);
  const groups = [...new Set(operations.map((one) => one.group))].sort((a, b) => order(a) - order(b));
  return (
    <>
      <h1 className="text-title font-semibold">The HTTP interface</h1>
      <p className="mt-1 text-lead text-soft">
        {plural(operations.filter((one) => one.group === "predict").length, "endpoint")} to ask,{" "}
        {operations.filter((one) => one.group !== "predict").length} other calls. For tools:{" "}
        <a className="underline hover:text-ink" href={`${BASE}/openapi.json`}>
          /openapi.json
        </a>
        .
      </p>
      <div className="mt-6 grid grid-cols-[minmax(0,1fr)] gap-4">
        {groups.map((group) => (
          <Card key={group} title={GROUPS[group] ?? group}>
            {operations
              .filter((one) => one.group === group)
              .map((one) => (
                <Call key={`${one.method} ${one.path}`} document={document} call={one} />
              ))}
          </Card>
        ))}
      </div>
    </>
  );
}

type Described = { method: string; path: string; group: string; operation: Operation };

function operationsOf(document: Document): Described[] {
  return Object.entries(document.paths).flatMap(([path, methods]) =>
    Object.entries(methods).map(([method, operation]) => ({
      method: method.toUpperCase(),
      path,
      group: operation.tags?.[0] ?? "node",
      operation,
    })),
  );
}

const order = (group: string): number => {
  const at = Object.keys(GROUPS).indexOf(group);
  return at < 0 ? 99 : at;
};

function Call({ document, call }: { document: Document; call: Described }) {
  const { operation } = call;
  const bodies = Object.entries(operation.requestBody?.content ?? {});
  const answer = operation.responses["200"] ?? operation.responses["201"];
  const [first = "", ...more] = (operation.description ?? "").split(/\n\s*\n/);
  const described = call.group === "predict" ? operation.description : more.join("\n\n");
  const reply = answer?.content?.["application/json"]?.schema;
  return (
    <Collapsible.Root asChild>
      <section className="border-t border-line first:border-t-0">
        <Collapsible.Trigger className="group flex w-full items-baseline gap-3 py-2 text-left hover:text-ink">
          <Mono className="w-16 shrink-0 text-small text-slate">{call.method}</Mono>
          <Mono className="max-w-[60%] shrink-0 truncate">{call.path}</Mono>
          <span className="min-w-0 truncate text-soft group-data-[state=open]:whitespace-normal">
            {call.group === "predict" ? operation.summary : <Prose text={first} />}
          </span>
        </Collapsible.Trigger>
        <Collapsible.Content>
          <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] gap-3 pb-4 pl-[76px]">
            {described && (
              <p className="max-w-[80ch] text-soft">
                <Prose text={described} />
              </p>
            )}
            {operation.parameters?.map((parameter) => (
              <p key={parameter.name} className="text-small">
                <Mono>{parameter.name}</Mono> <span className="text-faint">in the {parameter.in}</span>
              </p>
            ))}
            {bodies.length > 0 && (
              <div>
                <h3 className="text-small font-semibold">Body: {bodies.map(([kind]) => kind).join(", ")}</h3>
                <Shape document={document} schema={bodies[0]![1].schema} />
                {bodies[0]![1].example !== undefined && <Example value={bodies[0]![1].example} />}
              </div>
            )}
            {reply && (
              <div>
                <h3 className="text-small font-semibold">Answer</h3>
                <Shape document={document} schema={reply} />
              </div>
            )}
            <p className="text-small text-faint">
              {Object.entries(operation.responses)
                .filter(([status]) => Number(status) >= 400)
                .map(([status, response]) => `${status} ${response.description}`)
                .join(" · ")}
            </p>
          </div>
        </Collapsible.Content>
      </section>
    </Collapsible.Root>
  );
}

const Example = ({ value }: { value: unknown }) => (
  <pre className="mt-2 max-h-60 overflow-auto rounded-small bg-sunk p-3 font-mono text-small">
    {JSON.stringify(value, (_, one: unknown) => (typeof one === "string" && one.length > 120 ? `${one.slice(0, 120)}…` : one), 2)}
  </pre>
);

/** A schema as a table of its keys; alternatives one under the other. */
function Shape({ document, schema, depth = 0 }: { document: Document; schema?: Schema; depth?: number }) {
  const plain = resolved(document, schema);
  if (!plain || depth > 3) return null;
  if (plain.anyOf && plain.anyOf.some((one) => resolved(document, one)?.properties))
    return (
      <>
        {plain.anyOf.map((one, at) => (
          <div key={at}>
            {at > 0 && <p className="mt-1 text-small text-faint">or</p>}
            <Shape document={document} schema={one} depth={depth} />
          </div>
        ))}
      </>
    );
  if (plain.type === "array" && plain.items) return <Shape document={document} schema={plain.items} depth={depth + 1} />;
  if (!plain.properties) return <p className="text-small text-soft">{describeType(document, plain)}</p>;
  return (
    <table className="mt-1 w-full text-small">
      <tbody>
        {Object.entries(plain.properties).map(([name, field]) => (
          <tr key={name} className="border-t border-line align-top">
            <th scope="row" className="w-48 py-1 pr-3 text-left font-mono font-normal">
              {name}
              {plain.required?.includes(name) ? "" : <span className="text-faint"> ?</span>}
            </th>
            <td className="py-1 break-words text-soft">
              {describeType(document, field)}
              {resolved(document, field)?.description && (
                <span className="text-faint">
                  {" "}
                  · <Prose text={resolved(document, field)?.description ?? ""} />
                </span>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Text in which ``double backticks`` mark code. */
const Prose = ({ text }: { text: string }) => (
  <>{text.split(/``([^`]+)``|`([^`]+)`/).map((part, at) => (part === undefined ? null : at % 3 ? <Mono key={at}>{part}</Mono> : part))}</>
);

function resolved(document: Document, schema?: Schema): Schema | undefined {
  const name = schema?.$ref?.split("/").pop();
  return name ? document.components.schemas[name] : schema;
}

/** A field's schema in a few words. */
function describeType(document: Document, field: Schema): string {
  if (field.$ref) return field.$ref.split("/").pop() ?? "";
  if (field.enum)
    return field.enum
      .map((one) => (one === null ? "null" : String(one)))
      .slice(0, 12)
      .join(" | ");
  if (field.anyOf) return field.anyOf.map((one) => describeType(document, one)).join(" | ");
  const kind = Array.isArray(field.type) ? field.type.join(" | ") : (field.type ?? "any");
  const low = field.minimum !== undefined && Math.abs(field.minimum) < 1e15 ? ` from ${field.minimum}` : "";
  const high = field.maximum !== undefined && Math.abs(field.maximum) < 1e15 ? ` to ${field.maximum}` : "";
  const of = field.items ? ` of ${describeType(document, field.items)}` : "";
  const form = field.format ? ` (${field.format})` : field.contentEncoding ? ` (${field.contentEncoding})` : "";
  return `${kind}${of}${form}${low}${high}${field["x-unit"] ? ` ${field["x-unit"]}` : ""}`;
}
