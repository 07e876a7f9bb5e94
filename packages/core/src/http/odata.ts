import { SaxesParser } from "saxes";
import type { ApiField, ApiResource } from "./openapi.ts";

/** What the metadata of an OData 4 service (OData CSDL XML, version 4) tells, as far as reading needs it. */

interface Property {
  name: string;
  type: string;
  nullable: boolean;
  precision: string | null;
  scale: string | null;
}

interface EntityType {
  base: string | null;
  keys: string[];
  properties: Property[];
  /** properties that lead to several entities, with their type */
  leads: { name: string; type: string }[];
}

/** The path of every page but the first, where the service tells it. */
export const nextLink = "@odata.nextLink";

/** The warehouse type that holds the values of a primitive type (OData CSDL, section 3.3); jsonb for what is made of others. */
function typeOf({ type, precision, scale }: Property): string {
  switch (type) {
    case "Edm.Byte":
    case "Edm.SByte":
    case "Edm.Int16":
      return "smallint";
    case "Edm.Int32":
      return "integer";
    case "Edm.Int64":
      return "bigint";
    case "Edm.Decimal":
      return precision && /^\d+$/.test(precision) && /^\d+$/.test(scale ?? "0")
        ? `numeric(${precision},${scale ?? "0"})`
        : "numeric";
    case "Edm.Double":
      return "double precision";
    case "Edm.Single":
      return "real";
    case "Edm.Boolean":
      return "boolean";
    case "Edm.Date":
      return "date";
    case "Edm.DateTimeOffset":
      return "timestamp with time zone";
    case "Edm.TimeOfDay":
      return "time without time zone";
    case "Edm.Duration":
      return "interval";
    case "Edm.Guid":
      return "uuid";
    case "Edm.String":
    case "Edm.Binary":
    case "Edm.Stream":
      return "text";
    default:
      return "jsonb";
  }
}

/** The sets of which a service says that it tells what changed (OData Vocabularies, Capabilities: ChangeTracking), gathered as its metadata is read. */
class Tracking {
  private readonly supported = new Map<string, boolean>();
  private container = "";
  private about: string | null = null;
  private inside: { property: string | null } | null = null;

  open(tag: string, told: (attribute: string) => string | null): void {
    if (tag === "EntityContainer") this.container = told("Name") ?? "";
    if (tag === "EntitySet") this.about = told("Name");
    if (tag === "Annotations") this.about = (told("Target") ?? "").replace(/^.*[/.]/, "");
    if (this.inside) {
      if (tag === "PropertyValue") this.inside.property = told("Property");
      if (tag === "PropertyValue" && told("Bool") !== null) this.says(told("Bool") ?? "");
    } else if (tag === "Annotation" && /(^|\.)Capabilities(\.V1)?\.ChangeTracking$/.test(told("Term") ?? "")) {
      this.inside = { property: null };
      // That is what the term says where it says nothing more.
      this.supported.set(this.about ?? this.container, true);
    }
  }

  says(text: string): void {
    if (this.inside?.property === "Supported" && /^\s*(true|false)\s*$/.test(text))
      this.supported.set(this.about ?? this.container, text.trim() === "true");
  }

  close(tag: string): void {
    if (tag === "Annotation") this.inside = null;
    if (tag === "PropertyValue" && this.inside) this.inside.property = null;
    if (tag === "EntitySet" || tag === "Annotations") this.about = null;
  }

  has(set: string): boolean {
    return this.supported.get(set) ?? this.supported.get(this.container) ?? false;
  }
}

/** A service's name for a type, whatever alias its schema goes by. */
const local = (type: string) => type.slice(type.lastIndexOf(".") + 1);

/**
 * Reads a service's metadata: its entity sets as resources, each with its columns, types and key.
 * @throws RangeError where it is none
 */
export function readMetadata(xml: string): ApiResource[] {
  const types = new Map<string, EntityType>();
  const enums = new Set<string>();
  const tracking = new Tracking();
  const sets: { name: string; type: string }[] = [];
  let inside: EntityType | null = null;
  let within: "entity" | "other" | null = null;
  const parser = new SaxesParser();
  parser.on("error", (error) => {
    throw new RangeError(`The metadata is no XML: ${error.message.split("\n")[0]}`);
  });
  let root = "";
  parser.on("opentag", ({ name, attributes }) => {
    const tag = name.slice(name.indexOf(":") + 1);
    const told = (attribute: string) => {
      const value = attributes[attribute];
      return typeof value === "string" ? value : null;
    };
    root ||= tag;
    tracking.open(tag, told);
    if (tag === "EntityType") {
      inside = { base: told("BaseType"), keys: [], properties: [], leads: [] };
      within = "entity";
      types.set(told("Name") ?? "", inside);
    } else if (tag === "ComplexType") within = "other";
    else if (tag === "EnumType") enums.add(told("Name") ?? "");
    else if (tag === "PropertyRef" && inside) inside.keys.push(told("Name") ?? "");
    else if (tag === "Property" && inside && within === "entity")
      inside.properties.push({
        name: told("Name") ?? "",
        type: told("Type") ?? "Edm.String",
        nullable: told("Nullable") !== "false",
        precision: told("Precision"),
        scale: told("Scale"),
      });
    else if (tag === "NavigationProperty" && inside && within === "entity") {
      const [, type] = /^Collection\((.+)\)$/.exec(told("Type") ?? "") ?? [];
      if (type) inside.leads.push({ name: told("Name") ?? "", type });
    } else if (tag === "EntitySet") sets.push({ name: told("Name") ?? "", type: told("EntityType") ?? "" });
  });
  parser.on("text", (text) => tracking.says(text));
  parser.on("closetag", ({ name }) => {
    const tag = name.slice(name.indexOf(":") + 1);
    tracking.close(tag);
    if (tag === "EntityType" || tag === "ComplexType") {
      inside = null;
      within = null;
    }
  });
  parser.write(xml).close();
  if (root !== "Edmx") throw new RangeError("The metadata is no OData document: it does not begin with Edmx");
  /** A type with what it takes from those it is made from. */
  const whole = (name: string, depth = 0): EntityType => {
    const own = types.get(local(name)) ?? { base: null, keys: [], properties: [], leads: [] };
    if (own.base === null || depth > 20) return own;
    const base = whole(own.base, depth + 1);
    return {
      base: null,
      keys: [...base.keys, ...own.keys],
      properties: [...base.properties, ...own.properties],
      leads: [...base.leads, ...own.leads],
    };
  };
  const fieldsOf = ({ keys, properties }: EntityType) =>
    properties.map((property): ApiField => {
      return {
        name: property.name,
        // What is one of several names is told by its name.
        type: enums.has(local(property.type)) ? "text" : typeOf(property),
        required: !property.nullable || keys.includes(property.name),
        comment: null,
      };
    });
  const momentsOf = (fields: readonly ApiField[]) =>
    fields.filter((field) => field.type === "timestamp with time zone").map((field) => field.name);
  return sets.flatMap(({ name, type }): ApiResource[] => {
    const own = whole(type);
    const { keys, leads } = own;
    const fields = fieldsOf(own);
    const changes =
      momentsOf(fields).find((moment) => /(updated|modified|changed|lastedit|lastwrite)/i.test(moment)) ?? null;
    const set = resourceOf(`/${name}`, fields, keys, changes);
    return [
      tracking.has(name) ? { ...set, tracked: true } : set,
      ...leads.map((lead): ApiResource => {
        const led = whole(lead.type);
        const inner = fieldsOf(led);
        // Whose it is is told by the key of what holds it, where its own members don't say so.
        const keep = keys.filter((key) => !inner.some((field) => field.name === key));
        const kept = fields.filter((field) => keep.includes(field.name));
        return {
          ...resourceOf(`/${name}/${lead.name}`, [...kept, ...inner], [...keep, ...led.keys], null),
          summary: `what stands at ${lead.name} of ${name}`,
          within: { path: `/${name}`, each: lead.name, keep, keys, fields: inner.map((field) => field.name) },
        };
      }),
    ];
  });
}

const resourceOf = (path: string, fields: ApiField[], keys: string[], changes: string | null): ApiResource => ({
  path,
  summary: null,
  records: "value",
  fields,
  page: { next: nextLink },
  since: null,
  key: keys[0] ?? null,
  ...(keys.length > 1 ? { keys } : {}),
  changes,
});

/** What is asked of an entity set: its columns alone, in the order of its key, so that pages don't shift; of what its entities lead to that alone, with their keys. */
export function askedOf({
  fields,
  key,
  keys,
  within,
}: Pick<ApiResource, "fields" | "key" | "keys" | "within">): Record<string, string> {
  const order = within?.keys ?? keys ?? (key === null ? [] : [key]);
  return {
    $count: "true",
    $select: (within?.keys ?? fields.map((field) => field.name)).join(","),
    ...(within ? { $expand: `${within.each}($select=${within.fields.join(",")})` } : {}),
    ...(order.length ? { $orderby: order.join(",") } : {}),
  };
}

/** What changed since a watermark as a filter; a date stands as it is, a moment as ISO 8601. Rows without one come too. */
export const changedSince = (column: string, value: string) => `${column} ge ${value} or ${column} eq null`;

/** The records of a slice as a filter, by where it begins and ends; those without a value where it has no bounds. */
export const within = (column: string, bounds: { from: string; to: string } | null) =>
  bounds ? `${column} ge ${bounds.from} and ${column} lt ${bounds.to}` : `${column} eq null`;
