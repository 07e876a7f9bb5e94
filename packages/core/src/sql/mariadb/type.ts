/** A column of a MariaDB server as its catalogue tells it. */
export interface MariaColumn {
  name: string;
  /** `decimal(12,2) unsigned` */
  declared: string;
  kind: Kind;
  unsigned: boolean;
  /** bits of a bit column, characters of a text; null where there is no limit */
  length: number | null;
  /** digits of a decimal, and those behind its point */
  precision: number | null;
  scale: number | null;
  notNull: boolean;
  generated: boolean;
  hasDefault: boolean;
  comment: string | null;
}

type Kind =
  | "integer"
  | "decimal"
  | "float"
  | "double"
  | "bit"
  | "text"
  | "json"
  | "bytes"
  | "date"
  | "datetime"
  | "timestamp"
  | "time"
  | "uuid"
  | "other";

const kinds: Record<string, Kind> = {
  tinyint: "integer",
  smallint: "integer",
  mediumint: "integer",
  int: "integer",
  bigint: "integer",
  year: "integer",
  decimal: "decimal",
  float: "float",
  double: "double",
  bit: "bit",
  char: "text",
  varchar: "text",
  tinytext: "text",
  text: "text",
  mediumtext: "text",
  longtext: "text",
  enum: "text",
  set: "text",
  json: "json",
  binary: "bytes",
  varbinary: "bytes",
  tinyblob: "bytes",
  blob: "bytes",
  mediumblob: "bytes",
  longblob: "bytes",
  date: "date",
  datetime: "datetime",
  timestamp: "timestamp",
  time: "time",
  uuid: "uuid",
};

/** The kind of a type by its name in the catalogue; `other` is read as the text that the server makes of it. */
export const kindOfType = (name: string): Kind => kinds[name.toLowerCase()] ?? "other";

/** Digits that PostgreSQL's numeric can be declared with; a decimal of MariaDB has at most 65. */
const integers: Record<string, [signed: string, unsigned: string]> = {
  tinyint: ["smallint", "smallint"],
  smallint: ["smallint", "integer"],
  mediumint: ["integer", "integer"],
  int: ["integer", "bigint"],
  bigint: ["bigint", "numeric(20,0)"],
  year: ["smallint", "smallint"],
};

const fraction = (precision: number | null) => (precision === null || precision === 6 ? "" : `(${precision})`);

/** The warehouse type that holds every value of a column. A time is a span, as it may be longer than a day or negative. */
export function warehouseTypeOf({ declared, kind, unsigned, length, precision, scale }: MariaColumn): string {
  switch (kind) {
    case "integer":
      return (integers[/^[a-z]+/.exec(declared)?.[0] ?? ""] ?? ["bigint", "numeric(20,0)"])[unsigned ? 1 : 0];
    case "decimal":
      return `numeric(${precision ?? 65},${scale ?? 0})`;
    case "float":
      return "real";
    case "double":
      return "double precision";
    case "bit":
      return `bit(${length ?? 1})`;
    case "text":
      return /^(char|varchar)\b/.test(declared) && length !== null && length > 0
        ? `character varying(${length})`
        : "text";
    case "json":
      return "json";
    case "bytes":
      return "bytea";
    case "date":
      return "date";
    case "datetime":
      return `timestamp${fraction(scale)} without time zone`;
    case "timestamp":
      return `timestamp${fraction(scale)} with time zone`;
    case "time":
      return "interval";
    case "uuid":
      return "uuid";
    case "other":
      return "text";
  }
}

/** True for kinds whose values may be a day that no calendar has. */
export const isDated = ({ kind }: MariaColumn): boolean =>
  kind === "date" || kind === "datetime" || kind === "timestamp";
