import { createServer, type ServerResponse } from "node:http";
import { listen, withBody } from "./listen.ts";
import { type Trouble, Troubles } from "./trouble.ts";

/** A person of the crew, or a shift of one, as JSON. */
type Entity = Record<string, unknown>;

export interface Crew {
  port: number;
  /** the service's root */
  url: string;
  user: string;
  password: string;
  /** an hour of business: shifts come, some are changed, one is struck off */
  passHour(): { added: number; changed: number; deleted: number };
  /** what changed so far can't be asked for any more */
  forget(): void;
  trouble(next: Trouble): void;
  counts(): Record<string, number>;
  close(): Promise<void>;
}

const metadata = `<?xml version="1.0" encoding="UTF-8"?>
<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx">
  <edmx:DataServices>
    <Schema Namespace="Crew" xmlns="http://docs.oasis-open.org/odata/ns/edm">
      <EnumType Name="Rank"><Member Name="Deckhand"/><Member Name="Mate"/><Member Name="Master"/></EnumType>
      <ComplexType Name="Phone"><Property Name="Country" Type="Edm.String"/><Property Name="Number" Type="Edm.String"/></ComplexType>
      <EntityType Name="Tracked" Abstract="true"><Property Name="UpdatedAt" Type="Edm.DateTimeOffset" Nullable="false" Precision="3"/></EntityType>
      <EntityType Name="Person" BaseType="Crew.Tracked">
        <Key><PropertyRef Name="PersonId"/></Key>
        <Property Name="PersonId" Type="Edm.Int32" Nullable="false"/>
        <Property Name="Name" Type="Edm.String" Nullable="false" MaxLength="80"/>
        <Property Name="Rank" Type="Crew.Rank" Nullable="false"/>
        <Property Name="Hired" Type="Edm.Date"/>
        <Property Name="Phone" Type="Crew.Phone"/>
        <NavigationProperty Name="Shifts" Type="Collection(Crew.Shift)"/>
      </EntityType>
      <EntityType Name="Shift" BaseType="Crew.Tracked">
        <Key><PropertyRef Name="PersonId"/><PropertyRef Name="Number"/></Key>
        <Property Name="PersonId" Type="Edm.Int32" Nullable="false"/>
        <Property Name="Number" Type="Edm.Int64" Nullable="false"/>
        <Property Name="Vessel" Type="Edm.String"/>
        <Property Name="BeginsAt" Type="Edm.DateTimeOffset" Precision="0"/>
        <Property Name="Hours" Type="Edm.Decimal" Precision="6" Scale="3"/>
        <Property Name="Open" Type="Edm.Boolean"/>
      </EntityType>
      <EntityContainer Name="Container">
        <EntitySet Name="People" EntityType="Crew.Person"><NavigationPropertyBinding Path="Shifts" Target="Shifts"/></EntitySet>
        <EntitySet Name="Shifts" EntityType="Crew.Shift">
          <Annotation Term="Org.OData.Capabilities.V1.ChangeTracking"><Record><PropertyValue Property="Supported" Bool="true"/></Record></Annotation>
        </EntitySet>
      </EntityContainer>
    </Schema>
  </edmx:DataServices>
</edmx:Edmx>`;

const ranks = ["Deckhand", "Mate", "Master"];
const names = ["Åse Holm", "Bjørn Vik", "Cato Dahl", "Dagny Lie", "Even Moe", "Frida Berg", "Geir Sund", "Hilde Ruud"];
const largestPage = 400;

type Filter = (entity: Entity) => boolean;

/** A filter of comparisons joined by `and`, those by `or`; null where it is not understood. */
function readFilter(text: string): Filter | null {
  const either = text.split(/ or /).map((part) => part.split(/ and /).map(comparison));
  if (either.flat().includes(null)) return null;
  return (entity) => either.some((all) => all.every((one) => one?.(entity)));
}

/** One comparison of a filter: a member, what it is compared by, and a literal. */
function comparison(text: string): Filter | null {
  const [, member = "", by, literal = ""] = /^(\w+) (ge|gt|lt|eq) (\S+)$/.exec(text.trim()) ?? [];
  if (!by) return null;
  if (by === "eq" && literal === "null") return (entity) => entity[member] === null || entity[member] === undefined;
  const wanted = Number.isNaN(Date.parse(literal)) ? null : Date.parse(literal);
  return (entity) => {
    const own = Date.parse(String(entity[member]));
    if (wanted === null || Number.isNaN(own)) return String(entity[member]) === literal;
    return by === "ge" ? own >= wanted : by === "gt" ? own > wanted : by === "lt" ? own < wanted : own === wanted;
  };
}

/**
 * The Crew office: people and their shifts as OData 4 with `$metadata`, `$select`, `$filter` (comparisons joined by `and` and `or`),
 * `$orderby` by the key, `$count`, pages by the server, and of shifts what changed since they were read. On loopback; `port` 0 is any.
 */
export async function openCrew({ port = 0, people = 60, shifts = 40, password = "crew" } = {}): Promise<Crew> {
  const user = "reader";
  const began = Date.UTC(2026, 0, 1);
  let clock = Date.now();
  const iso = (at: number) => new Date(at).toISOString();
  const persons: Entity[] = Array.from({ length: people }, (_, at) => ({
    PersonId: at + 1,
    Name: `${names[at % names.length]} ${at + 1}`,
    Rank: ranks[at % ranks.length],
    Hired: iso(began - at * 86_400_000 * 31).slice(0, 10),
    Phone: at % 5 ? { Country: "+47", Number: String(40_000_000 + at * 7919) } : null,
    UpdatedAt: iso(began + at * 60_000),
  }));
  const shift = (person: number, at: number, updated: number): Entity => ({
    PersonId: person,
    Number: `${9_007_199_254_740_000n + BigInt(at)}`,
    Vessel: at % 9 ? `KSF-0${1 + (at % 7)}` : null,
    BeginsAt: iso(began + (person * 40 + at) * 3_600_000),
    Hours: `${4 + (at % 8)}.${String((at * 125) % 1000).padStart(3, "0")}`,
    Open: at % 3 === 0,
    UpdatedAt: iso(updated),
  });
  const worked: Entity[] = persons.flatMap((_, person) =>
    Array.from({ length: shifts }, (__, at) => shift(person + 1, at, began + (person * shifts + at) * 1000)),
  );
  const sets: Record<string, { keys: string[]; exact: string[]; rows: Entity[] }> = {
    People: { keys: ["PersonId"], exact: [], rows: persons },
    Shifts: { keys: ["PersonId", "Number"], exact: ["Number", "Hours"], rows: worked },
  };
  const counts: Record<string, number> = {};
  const troubles = new Troubles();
  /** shifts in the order of their changes; one that is gone stands as its key */
  const log: { shift: Entity; gone: boolean }[] = [];
  /** which log a place is of: another one begins with each start */
  const opened = Date.now().toString(36);
  let forgotten = 0;
  let hours = 0;
  const idOf = ({ PersonId, Number: number }: Entity) => `Shifts(PersonId=${PersonId},Number=${number})`;
  /** The latest word on each shift that changed between two places of the log. */
  const changedBetween = (from: number, to: number) => [
    ...new Map(log.slice(from, to).map((one) => [idOf(one.shift), one])).values(),
  ];

  /** Some members of an entity; what a JavaScript number can't hold is written as it stands. */
  const membersOf = (set: string, row: Entity, columns: readonly string[]) =>
    columns
      .map((column) => {
        const exact = sets[set]?.exact.includes(column);
        return `"${column}":${exact ? row[column] : JSON.stringify(row[column] ?? null)}`;
      })
      .join(",");

  const answer = (name: string, url: URL, preferred: number, tracks: boolean, response: ServerResponse) => {
    const set = sets[name];
    if (!set)
      return response
        .writeHead(404, { "content-type": "application/json" })
        .end('{"error":{"message":"There is no such set"}}');
    const filter = url.searchParams.get("$filter");
    const fits = filter === null ? () => true : readFilter(filter);
    if (!fits)
      return response
        .writeHead(400, { "content-type": "application/json" })
        .end('{"error":{"message":"The filter is not understood"}}');
    const asked = url.searchParams.get("$deltatoken");
    const [book = "", ...places] = asked?.split("-") ?? [];
    const [since = 0, until = log.length] = places.map(Number);
    if (asked !== null && !(book === opened && since >= forgotten && since <= log.length))
      return response
        .writeHead(410, { "content-type": "application/json" })
        .end('{"error":{"message":"What changed since then is not known any more"}}');
    // Several pages tell of the same changes, whatever comes meanwhile.
    const changed = asked === null ? null : changedBetween(since, until);
    const rows = changed?.map(({ shift }) => shift) ?? set.rows.filter(fits);
    if (url.pathname.endsWith("/$count"))
      return response.writeHead(200, { "content-type": "text/plain" }).end(String(rows.length));
    const top = Number(url.searchParams.get("$top") ?? rows.length);
    const size = Math.min(preferred, largestPage, top);
    const [from = 0, began = log.length] = url.searchParams.get("$skiptoken")?.split("-").map(Number) ?? [];
    const select = url.searchParams.get("$select")?.split(",") ?? Object.keys(set.rows[0] ?? {});
    const [, expand, inner] = /^(Shifts)(?:\(\$select=([\w,]+)\))?$/.exec(url.searchParams.get("$expand") ?? "") ?? [];
    const shiftsOf = ({ PersonId }: Entity) => {
      const own = worked.filter((one) => one.PersonId === PersonId);
      const columns = inner?.split(",") ?? Object.keys(worked[0] ?? {});
      return `"Shifts":[${own.map((one) => `{${membersOf("Shifts", one, columns)}}`).join(",")}],`;
    };
    const written = (row: Entity, at: number) => {
      if (changed?.[from + at]?.gone)
        return `{"@odata.context":"$metadata#Shifts/$deletedEntity","id":"${idOf(row)}","reason":"deleted"}`;
      return `{${expand && name === "People" ? shiftsOf(row) : ""}${membersOf(name, row, select)}}`;
    };
    const next = new URL(url.href);
    next.searchParams.set("$skiptoken", `${from + size}-${began}`);
    if (asked !== null) next.searchParams.set("$deltatoken", `${opened}-${since}-${until}`);
    const later = new URL(url.href);
    for (const name of ["$skiptoken", "$count", "$orderby"]) later.searchParams.delete(name);
    later.searchParams.set("$deltatoken", `${opened}-${asked === null ? began : until}`);
    const tracked = name === "Shifts" && !filter && (tracks || asked !== null);
    const link =
      from + size < Math.min(rows.length, top)
        ? `,"@odata.nextLink":${JSON.stringify(next.href)}`
        : tracked
          ? `,"@odata.deltaLink":${JSON.stringify(later.href)}`
          : "";
    response.writeHead(200, { "content-type": "application/json;odata.metadata=none", "odata-version": "4.0" }).end(
      `{${url.searchParams.get("$count") === "true" ? `"@odata.count":${rows.length},` : ""}"value":[${rows
        .slice(from, from + size)
        .map(written)
        .join(",")}]${link}}`,
    );
  };

  const server = createServer((request, response) => {
    const url = new URL(request.url ?? "/", `http://${request.headers.host ?? "127.0.0.1"}`);
    withBody(request, async (body) => {
      counts[url.pathname] = (counts[url.pathname] ?? 0) + 1;
      if (troubles.takes(request, response, url.pathname, body)) return;
      const given = `Basic ${Buffer.from(`${user}:${password}`).toString("base64")}`;
      if (request.headers.authorization !== given)
        return response.writeHead(401, { "www-authenticate": "Basic" }).end();
      const [, name = ""] = /^\/odata\/v4\/([^/]*)/.exec(url.pathname) ?? [];
      if (name === "$metadata") return response.writeHead(200, { "content-type": "application/xml" }).end(metadata);
      if (await troubles.meets(response)) return;
      const wanted = /odata\.maxpagesize=(\d+)/.exec([request.headers.prefer ?? ""].flat().join())?.[1];
      const tracks = String(request.headers.prefer ?? "").includes("odata.track-changes");
      return answer(name, url, Number(wanted ?? 100), tracks, response);
    });
  });
  const { port: bound, close } = await listen(server, port);
  return {
    port: bound,
    url: `http://127.0.0.1:${bound}/odata/v4/`,
    user,
    password,
    passHour: () => {
      clock = Math.max(Date.now(), clock + 1000);
      const added = [1, 2, 3, 4, 5].map((person) => shift(person, shifts + hours, clock));
      hours++;
      const changed = worked.slice(0, 3);
      for (const row of changed) Object.assign(row, { Open: !row.Open, UpdatedAt: iso(clock) });
      const deleted = worked.splice(3 + (log.length % 20), 1);
      worked.push(...added);
      log.push(
        ...[...changed, ...added].map((one) => ({ shift: one, gone: false })),
        ...deleted.map((one) => ({ shift: one, gone: true })),
      );
      return { added: added.length, changed: changed.length, deleted: deleted.length };
    },
    forget: () => {
      forgotten = log.length;
    },
    trouble: (next) => troubles.set(next),
    counts: () => ({ ...counts }),
    close,
  };
}
