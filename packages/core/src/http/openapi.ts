import { parse } from "yaml";
import type { Glance } from "../dataset/dataset.ts";
import { namedFor } from "../dataset/naming.ts";
import type { OAuth, PageForm, SinceForm } from "../pipeline/pipeline.ts";

/** What an OpenAPI 3 document tells of an application, as far as reading needs it. */

/** One field of a record, with the type that the document gives it. */
export interface ApiField {
  name: string;
  /** a warehouse type; null where the document leaves it open */
  type: string | null;
  /** true where every record has it, and it is never null */
  required: boolean;
  comment: string | null;
}

/** An operation that reads records. */
export interface ApiResource {
  path: string;
  summary: string | null;
  records: string | null;
  fields: ApiField[];
  page: PageForm | null;
  since: SinceForm | null;
  key: string | null;
  /** all of its key, where that has several members */
  keys?: string[];
  changes: string | null;
  /** true where the application tells what changed since it was read last, what it deleted too, by a link */
  tracked?: true;
  /** the parameters that say from which day and to which, of what is a report about days */
  days?: { from: string; to: string };
  /** parameters that name several of some things, such as the columns of a report, with all that they may name */
  choices?: NonNullable<Glance["choices"]>;
  /** of rows that records hold as a list: where that is read, what of the records goes along, and what of the rows is asked for */
  within?: { path: string; each: string; keep: string[]; keys: string[]; fields: string[] };
}

/** A way to sign in that the document names. */
export type ApiSignIn =
  | { way: "basic" }
  | { way: "bearer" }
  | { way: "key"; header: string }
  | { way: "oauth"; oauth: Omit<OAuth, "client"> };

export interface ApiDescription {
  title: string;
  resources: ApiResource[];
  signIn: ApiSignIn[];
}

type Node = Record<string, unknown>;
const isNode = (value: unknown): value is Node => typeof value === "object" && value !== null && !Array.isArray(value);
const textOf = (value: unknown) => (typeof value === "string" && value.trim() ? value.trim() : null);

/** So many nodes are looked at: a document that is made to be endless ends. */
const mostLooks = 2_000_000;

/** A document's nodes, with references within it followed. */
class Document {
  private looked = 0;

  constructor(private readonly root: Node) {}

  /** @param depth how many references led here; what leads round in a circle ends */
  at(value: unknown, depth = 0): Node {
    if (++this.looked > mostLooks) throw new RangeError("The description refers to itself too often to be read");
    if (!isNode(value) || depth > 20) return {};
    const reference = value.$ref;
    if (typeof reference !== "string") return value;
    if (!reference.startsWith("#/")) return {};
    let found: unknown = this.root;
    for (const part of reference.slice(2).split("/")) {
      const name = decodeURIComponent(part).replaceAll("~1", "/").replaceAll("~0", "~");
      found = isNode(found) && Object.hasOwn(found, name) ? found[name] : undefined;
    }
    return this.at(found, depth + 1);
  }

  /** A schema's own members and those that it takes from others. */
  members(schema: unknown, depth = 0): { properties: Node; required: Set<string> } {
    const own = this.at(schema);
    const all = { properties: isNode(own.properties) ? { ...own.properties } : {}, required: new Set<string>() };
    for (const name of Array.isArray(own.required) ? own.required : []) all.required.add(String(name));
    if (depth < 10)
      for (const part of Array.isArray(own.allOf) ? own.allOf : []) {
        const { properties, required } = this.members(part, depth + 1);
        Object.assign(all.properties, properties);
        for (const name of required) all.required.add(name);
      }
    return all;
  }
}

/** The kinds of a schema, in 3.0 and 3.1; null among them where it may be null. */
const kindsOf = (schema: Node): string[] => [
  ...[schema.type].flat().filter((kind): kind is string => typeof kind === "string"),
  ...(schema.nullable === true ? ["null"] : []),
];

/** The warehouse type of what a schema allows; null where it leaves it open. */
function typeOf(schema: Node): string | null {
  const kinds = kindsOf(schema).filter((kind) => kind !== "null");
  if (kinds.length !== 1) return isNode(schema.properties) || Array.isArray(schema.allOf) ? "jsonb" : null;
  const format = textOf(schema.format);
  switch (kinds[0]) {
    case "integer":
      return format === "int32" ? "integer" : "bigint";
    case "number":
      return "numeric";
    case "boolean":
      return "boolean";
    case "object":
    case "array":
      return "jsonb";
    case "string":
      return format === "date-time"
        ? "timestamp with time zone"
        : format === "date"
          ? "date"
          : format === "uuid"
            ? "uuid"
            : "text";
    default:
      return null;
  }
}

/** Where an answer's records are, and the schema of one; null where it holds no list of objects. */
function listIn(document: Document, schema: unknown, path: string[] = []): { path: string[]; item: unknown } | null {
  const own = document.at(schema);
  if (kindsOf(own).includes("array") || own.items !== undefined) {
    const item = document.at(own.items);
    const { properties } = document.members(item);
    return Object.keys(properties).length > 0 ? { path, item: own.items } : null;
  }
  if (path.length >= 3) return null;
  const lists = Object.entries(document.members(own).properties).flatMap(([name, member]) => {
    const found = /[.\s]/.test(name) ? null : listIn(document, member, [...path, name]);
    return found ? [found] : [];
  });
  return lists.length === 1 ? (lists[0] ?? null) : null;
}

const cursorMember = /^(next_?cursor|next|end_?cursor|next_?page_?token|next_?token|continuation(_?token)?)$/i;
const cursorParameter = /^(cursor|after|page_?token|next_?token|token|continuation(_?token)?)$/i;
const sizeParameter = /^(limit|per_?page|page_?size|size|top)$/i;
const sinceParameter =
  /^((updated|modified|changed|deleted|removed)(_?at)?_?(since|after|from|gte?|min)|since|changed_?since)$/i;

/** How pages follow each other, by the names of parameters and of what stands beside the records. */
function pageOf(parameters: Map<string, Node>, beside: Node, linked: boolean): PageForm | null {
  const named = (form: RegExp) => [...parameters.keys()].find((name) => form.test(name));
  const sizeAs = named(sizeParameter);
  const bounds = isNode(parameters.get(sizeAs ?? "")?.schema) ? (parameters.get(sizeAs ?? "")?.schema as Node) : {};
  const most = Number(bounds.maximum ?? bounds.default);
  const size = sizeAs && Number.isInteger(most) && most > 0 ? { size: Math.min(most, 1000), sizeAs } : {};
  if (linked) return { link: true, ...size };
  const member = Object.keys(beside).find((name) => cursorMember.test(name));
  const as = named(cursorParameter);
  if (member && as) return { cursor: member, as, ...size };
  if (member && isNode(beside[member]) && ["uri", "uri-reference"].includes(String((beside[member] as Node).format)))
    return { next: member, ...size };
  const offset = named(/^(offset|skip)$/i);
  if (offset) return { offset, ...size };
  const number = named(/^page(_?number)?$/i);
  return number ? { number, ...size } : null;
}

/** A parameter that asks for what changed; by its name it may leave out what changed at that very moment. */
export const sinceOf = (parameter: string): SinceForm => ({
  parameter,
  ...(/(after|gt)$/i.test(parameter) ? { excludes: true as const } : {}),
});

const firstDay = /^(from|start|begin|since)$|^(from|start|begin)_?(date|day|on)$|^(date|day)_?(from|start|begin)$/i;
const lastDay = /^(to|end|until|till)$|^(to|end|until)_?(date|day|on)$|^(date|day)_?(to|end|until)$/i;

/** The parameters between whose days a report is given; null where it is none. */
function daysOf(parameters: Map<string, Node>, document: Document): ApiResource["days"] | null {
  const dates = [...parameters].filter(([, one]) => document.at(one.schema).format === "date").map(([name]) => name);
  const from = dates.find((name) => firstDay.test(name));
  const to = dates.find((name) => lastDay.test(name));
  return from && to ? { from, to } : null;
}

/** Parameters that take several of some values, in one text with commas (style form without explode). */
function choicesOf(parameters: Map<string, Node>, document: Document): NonNullable<ApiResource["choices"]> {
  return [...parameters].flatMap(([parameter, one]) => {
    const values = document.at(document.at(one.schema).items).enum;
    return one.explode === false && Array.isArray(values) && values.every((value) => typeof value === "string")
      ? [{ parameter, values: values as string[] }]
      : [];
  });
}

/** What an operation reads; null for one that reads no list of records by its address alone. */
function resourceOf(document: Document, path: string, item: Node, operation: Node): ApiResource | null {
  if (path.includes("{")) return null;
  const responses = isNode(operation.responses) ? operation.responses : {};
  const response = document.at(responses["200"] ?? responses["2XX"] ?? responses.default);
  const content = isNode(response.content) ? response.content : {};
  const media = Object.entries(content).find(([type]) => /[/+]json\b/.test(type))?.[1];
  const found = listIn(document, isNode(media) ? media.schema : undefined);
  if (!found) return null;
  const parameters = new Map(
    [item.parameters, operation.parameters]
      .flatMap((list) => (Array.isArray(list) ? list : []))
      .map((one) => document.at(one))
      .filter((one) => one.in === "query")
      .map((one) => [String(one.name), one]),
  );
  const { properties, required } = document.members(found.item);
  const fields = Object.entries(properties).map(([name, schema]): ApiField => {
    const own = document.at(schema);
    return {
      name,
      type: typeOf(own),
      required: required.has(name) && !kindsOf(own).includes("null"),
      comment: textOf(own.description),
    };
  });
  const holder = document.members(isNode(media) ? media.schema : undefined).properties;
  const headers = isNode(response.headers) ? Object.keys(response.headers).map((name) => name.toLowerCase()) : [];
  const days = daysOf(parameters, document);
  const choices = choicesOf(parameters, document);
  const parameter = days ? undefined : [...parameters.keys()].find((name) => sinceParameter.test(name));
  const certain = fields.filter((field) => field.required);
  const key =
    certain.find(({ name }) => /^(id|uuid|key)$/i.test(name)) ?? certain.find(({ name }) => /(_id|Id)$/.test(name));
  const changes = fields.find(({ name, type }) => type?.startsWith("timestamp") && namedFor(name) === "changes");
  return {
    path,
    summary: textOf(operation.summary) ?? textOf(operation.description),
    records: found.path.length ? found.path.join(".") : null,
    fields,
    page: pageOf(parameters, holder, headers.includes("link")),
    since: parameter ? sinceOf(parameter) : null,
    key: key?.name ?? null,
    changes: changes?.name ?? null,
    ...(days ? { days } : {}),
    ...(choices.length ? { choices } : {}),
  };
}

function signInOf(scheme: Node): ApiSignIn | null {
  if (scheme.type === "http" && /^basic$/i.test(String(scheme.scheme))) return { way: "basic" };
  if (scheme.type === "http" && /^bearer$/i.test(String(scheme.scheme))) return { way: "bearer" };
  if (scheme.type === "apiKey" && scheme.in === "header" && typeof scheme.name === "string")
    return { way: "key", header: scheme.name };
  if (scheme.type !== "oauth2" || !isNode(scheme.flows)) return null;
  const flows = [
    ["clientCredentials", "client_credentials"],
    ["authorizationCode", "authorization_code"],
  ] as const;
  for (const [name, grant] of flows) {
    const flow = scheme.flows[name];
    if (!isNode(flow) || typeof flow.tokenUrl !== "string") continue;
    return {
      way: "oauth",
      oauth: {
        grant,
        token: flow.tokenUrl,
        ...(typeof flow.authorizationUrl === "string" ? { authorize: flow.authorizationUrl } : {}),
        ...(isNode(flow.scopes) ? { scopes: Object.keys(flow.scopes) } : {}),
      },
    };
  }
  return null;
}

/** The largest document that is read, in characters. */
const longest = 20_000_000;

/**
 * Reads an OpenAPI 3 document, as JSON or YAML.
 * @throws RangeError where it is none
 */
export function readOpenApi(text: string): ApiDescription {
  if (text.length > longest) throw new RangeError("The description is longer than 20 million characters");
  let root: unknown;
  try {
    root = text.trimStart().startsWith("{") ? JSON.parse(text) : parse(text, { maxAliasCount: 100 });
  } catch (error) {
    throw new RangeError(`The description is neither JSON nor YAML: ${(error as Error).message.split("\n")[0]}`);
  }
  if (!isNode(root) || typeof root.openapi !== "string" || !root.openapi.startsWith("3."))
    throw new RangeError("The description is no OpenAPI 3 document: it has no member openapi that says 3");
  const document = new Document(root);
  const info = document.at(root.info);
  const components = document.at(root.components);
  const resources = Object.entries(isNode(root.paths) ? root.paths : {}).flatMap(([path, value]) => {
    const item = document.at(value);
    const found = isNode(item.get) ? resourceOf(document, path, item, document.at(item.get)) : null;
    return found ? [found] : [];
  });
  const schemes = Object.values(isNode(components.securitySchemes) ? components.securitySchemes : {});
  return {
    title: textOf(info.title) ?? "An application",
    resources,
    signIn: schemes.flatMap((scheme) => signInOf(document.at(scheme)) ?? []),
  };
}
