// What the console reads of the service's OpenAPI document.

export type Schema = {
  $ref?: string;
  type?: string | string[];
  format?: string;
  description?: string;
  properties?: Record<string, Schema>;
  required?: string[];
  items?: Schema;
  additionalProperties?: Schema | boolean;
  oneOf?: Schema[];
};
export type Parameter = { name: string; in: string; description?: string; required?: boolean; schema: Schema };
type Content = Record<string, { schema?: Schema }>;
type Operation = {
  operationId: string;
  summary: string;
  description?: string;
  tags: string[];
  parameters?: Parameter[];
  requestBody?: { content: Content };
  responses: Record<string, { description: string; content?: Content }>;
};
export type ApiDocument = {
  info: { title: string; description: string };
  paths: Record<string, Record<string, Operation>>;
  components: { schemas: Record<string, Schema> };
};

// Call is one call as the page shows it.
export type Call = {
  name: string;
  subject: string;
  method: string;
  path: string;
  words: string;
  right: string; // what it takes, as a sentence; empty for everybody
  parameters: Parameter[];
  body?: Content;
  answer?: Content;
};

// callsOf returns the calls of a document, those of one subject together, each in the order of its path.
export function callsOf(d: ApiDocument): Call[] {
  const all: Call[] = [];
  for (const [path, item] of Object.entries(d.paths)) {
    for (const [method, o] of Object.entries(item)) {
      const good = Object.entries(o.responses).find(([status]) => status !== "default");
      all.push({
        name: o.operationId,
        subject: o.tags[0] ?? "others",
        method: method.toUpperCase(),
        path,
        words: o.summary,
        right: o.description ?? "",
        parameters: o.parameters ?? [],
        body: o.requestBody?.content,
        answer: good?.[1].content,
      });
    }
  }
  const order = [...new Set(all.map((c) => c.subject))].sort();
  return all.sort((a, b) => order.indexOf(a.subject) - order.indexOf(b.subject) || a.path.localeCompare(b.path));
}

// schemaOf returns a schema of a document by its name.
export function schemaOf(d: ApiDocument, name: string): Schema {
  return d.components.schemas[name] ?? {};
}

// named returns the name of the schema that another one stands for; undefined for one that stands for itself.
export function named(s: Schema): string | undefined {
  const ref = s.$ref ?? s.oneOf?.find((one) => one.$ref)?.$ref;
  return ref?.slice(ref.lastIndexOf("/") + 1);
}

// within returns the named schema whose fields a value of a schema has, or each of its values; undefined for none.
export function within(s: Schema): string | undefined {
  if (named(s)) return named(s);
  if (s.items) return within(s.items);
  return typeof s.additionalProperties === "object" ? within(s.additionalProperties) : undefined;
}

// kindOf says in words what a value of a schema is.
export function kindOf(s: Schema): string {
  const own = named(s);
  if (own) return own;
  const types = [s.type ?? []].flat().filter((t) => t !== "null");
  if (s.items) return `list of ${kindOf(s.items)}`;
  if (typeof s.additionalProperties === "object") return `${kindOf(s.additionalProperties)} by name`;
  if (s.format === "date-time") return "instant";
  if (s.oneOf) return s.oneOf.map(kindOf).join(" or ");
  const words: Record<string, string> = {
    integer: "whole number",
    number: "number",
    string: "text",
    boolean: "true or false",
    object: "object",
  };
  return types.map((t) => words[t] ?? t).join(" or ") || "any JSON";
}
