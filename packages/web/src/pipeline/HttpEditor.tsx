import { Autocomplete, Button, NumberInput, Select, SimpleGrid, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useMutation, useQuery } from "@tanstack/react-query";
import { listedName } from "@undercoat/core/dataset/item";
import { periodsOf } from "@undercoat/core/http/periods";
import type { From, PageForm, SinceForm } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { answer, path, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { grouped } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";
import { useFill } from "../values/chosen.ts";
import { BulkField } from "./BulkField.tsx";
import { type EditorProps, fromElsewhere } from "./editors.tsx";
import { FileGlance } from "./FileGlance.tsx";
import { Form, inPopover } from "./Form.tsx";
import { Choices, ReportFields, reportParameters, reportWords } from "./ReportFields.tsx";
import { said } from "./said.ts";
import { TypesScan } from "./TypesScan.tsx";

const ways = [
  { value: "", label: "there is one page" },
  { value: "link", label: "a link header names the next" },
  { value: "next", label: "the answer holds the next's address" },
  { value: "cursor", label: "the answer holds a cursor" },
  { value: "number", label: "pages are counted" },
  { value: "offset", label: "records are passed over" },
];

/** What a way is asked beside, by the part of the page's form that holds it. */
const asked: Record<string, { name: "next" | "cursor" | "as" | "number" | "offset"; label: string; usual: string }[]> =
  {
    next: [{ name: "next", label: "Where in the answer", usual: "next" }],
    cursor: [
      { name: "cursor", label: "Where in the answer", usual: "next" },
      { name: "as", label: "Parameter that sends it back", usual: "after" },
    ],
    number: [{ name: "number", label: "Parameter that counts", usual: "page" }],
    offset: [{ name: "offset", label: "Parameter that says how many", usual: "offset" }],
  };

const wayOf = (page: PageForm | undefined) =>
  page ? (["link", "next", "cursor", "number", "offset"].find((way) => way in page) ?? "") : "";

/** A way's form, with what is usual where nothing is said. */
function formOf(way: string, { size, sizeAs }: PageForm): PageForm | undefined {
  if (way === "") return undefined;
  const sized = { ...(size ? { size } : {}), ...(size && sizeAs ? { sizeAs } : {}) };
  if (way === "link") return { link: true, ...sized };
  return { ...Object.fromEntries((asked[way] ?? []).map(({ name, usual }) => [name, usual])), ...sized };
}

/** How an application is read, as sentences behind others. */
export function readWords(from: From): string {
  const { records, each, page, since } = from;
  const way = ways.find(({ value }) => value === wayOf(page))?.label ?? "";
  return ` Records stand at ${records ?? "the answer itself"}${each ? `, and rows at ${each} of each` : ""}; ${way}${page?.size ? `, ${grouped(String(page.size))} records each` : ""}${since ? `; ${since.parameter} asks for what changed` : ""}.${from.gone ? ` What was deleted is listed at ${from.gone.path}.` : ""}${reportWords(from)}`;
}

/** Parameters as a person writes them: `zone=north&open=true`. */
const written = (parameters: From["parameters"]) =>
  Object.entries(parameters ?? {})
    .map(([name, value]) => `${name}=${value}`)
    .join("&");
const read = (text: string): Record<string, string> =>
  Object.fromEntries(
    text
      .split("&")
      .map((part) => part.split(/=(.*)/s))
      .filter(([name]) => name?.trim())
      .map(([name = "", value = ""]) => [name.trim(), value]),
  );

/** The parameters that are no report's own. */
const others = (from: From) =>
  Object.fromEntries(Object.entries(from.parameters ?? {}).filter(([name]) => !reportParameters(from).includes(name)));

/** What is asked of an application: which path, where its records stand, how pages follow each other, how to ask for what changed; with a way to find it out. */
export function HttpEditor({ load, onSet, close }: EditorProps) {
  const fill = useFill();
  const { connection } = load.from;
  const listed = useQuery(queries.datasets(fill(connection)));
  const [from, setFrom] = useState<From>(load.from.path === undefined ? { connection, path: "" } : load.from);
  const [parameters, setParameters] = useState(written(others(from)));
  const put = (change: { [Name in keyof From]?: From[Name] | undefined }) =>
    setFrom(said({ ...from, ...change }) as From);
  const page = from.page ?? {};
  const way = wayOf(from.page);
  const next = said({ ...from, path: from.path?.trim() });
  /** Others than a report's own, as they are typed. */
  const setOthers = (text: string) => {
    setParameters(text);
    const own = Object.entries(from.parameters ?? {}).filter(([name]) => reportParameters(from).includes(name));
    const all = { ...read(text), ...Object.fromEntries(own) };
    put({ parameters: Object.keys(all).length ? all : undefined });
  };
  const isPath = (text: string | undefined) => /^\/[^\s#?]*$/.test(text ?? "");
  const ready = isPath(next.path) && (next.gone === undefined || isPath(next.gone.path));
  const [shown] = useDebouncedValue({ ...next, connection: fill(connection) }, 400);
  const glance = useQuery({ ...queries.glance(shown), enabled: isPath(shown.path) });
  const find = useMutation({
    mutationFn: () => {
      const { records: _, page: __, since: ___, types: ____, ...bare } = next;
      return answer(
        server.connections[":name"].propose.$post({
          ...path({ name: fill(connection) }),
          json: { from: { ...bare, connection: fill(connection) } },
        }),
      );
    },
    onSuccess: (proposal) => {
      setFrom({ ...proposal.from, connection });
      setParameters(written(others(proposal.from)));
    },
  });
  return (
    <Form
      disabled={!ready}
      onSubmit={() => {
        const { watermark, ...rest } = load;
        onSet(
          load.from.path === undefined || load.from.path !== next.path
            ? fromElsewhere(rest, next)
            : { ...rest, ...(watermark ? { watermark } : {}), from: next },
        );
        close();
      }}
    >
      <SimpleGrid cols={4} spacing="sm">
        <Autocomplete
          label="Path"
          placeholder="/scans"
          data={(listed.data ?? []).map(listedName)}
          value={from.path ?? ""}
          onChange={(value) => put({ path: value })}
          openOnFocus={false}
          classNames={{ input: "mono" }}
          {...inPopover}
        />
        <TextInput
          label="Parameters"
          placeholder="zone=north&open=yes"
          value={parameters}
          onChange={(event) => setOthers(event.currentTarget.value)}
          classNames={{ input: "mono" }}
        />
        <Select
          label="Objects within a record"
          data={[
            { value: "no", label: "stay whole, as jsonb" },
            { value: "yes", label: "are taken apart" },
          ]}
          value={from.flatten ? "yes" : "no"}
          onChange={(value) => put({ flatten: value === "yes" || undefined })}
          allowDeselect={false}
          {...inPopover}
        />
        <Button
          variant="outline"
          style={{ alignSelf: "end" }}
          title="Looks at an answer, proposes what follows, and tries it by reading two pages"
          loading={find.isPending}
          disabled={!ready}
          onClick={() => find.mutate()}
        >
          Find out the rest
        </Button>
      </SimpleGrid>
      <ErrorNote error={find.error} />
      {find.data && (
        <p className="quiet">
          {find.data.tried.map(({ words, holds }, at) => (
            <span key={words}>
              {at > 0 && "; "}
              <span className={holds ? "good" : undefined}>{holds ? "holds" : "does not hold"}</span>: {words}
            </span>
          ))}
          .
        </p>
      )}
      <SimpleGrid cols={4} spacing="sm">
        <TextInput
          label="Records stand at"
          placeholder="the answer itself"
          value={from.records ?? ""}
          onChange={(event) => put({ records: event.currentTarget.value.trim() })}
          classNames={{ input: "mono" }}
        />
        <TextInput
          label="Rows are the list at"
          placeholder="the records themselves"
          value={from.each ?? ""}
          onChange={(event) => {
            const each = event.currentTarget.value.trim() || undefined;
            put({ each, keep: each ? from.keep : undefined });
          }}
          classNames={{ input: "mono" }}
        />
        {from.each && (
          <TextInput
            label="With the record's"
            placeholder="order_id, updated_at"
            value={from.keep?.join(", ") ?? ""}
            onChange={(event) => {
              const keep = event.currentTarget.value.split(/[,\s]+/).filter(Boolean);
              put({ keep: keep.length ? keep : undefined });
            }}
            classNames={{ input: "mono" }}
          />
        )}
        <Select
          label="Pages"
          data={ways}
          value={way}
          onChange={(value) => put({ page: formOf(value ?? "", page) })}
          allowDeselect={false}
          {...inPopover}
        />
        {(asked[way] ?? []).map(({ name, label }) => (
          <TextInput
            key={name}
            label={label}
            value={page[name] ?? ""}
            onChange={(event) => put({ page: { ...page, [name]: event.currentTarget.value.trim() } })}
            classNames={{ input: "mono" }}
          />
        ))}
        {way !== "" && (
          <>
            <NumberInput
              label="Records a page"
              placeholder="as it likes"
              min={1}
              allowDecimal={false}
              value={page.size ?? ""}
              onChange={(value) =>
                put({
                  page: said({ ...page, size: Number(value) || undefined, sizeAs: value ? page.sizeAs : undefined }),
                })
              }
            />
            <TextInput
              label="Parameter for that"
              placeholder="none"
              disabled={!page.size}
              value={page.sizeAs ?? ""}
              onChange={(event) =>
                put({ page: said({ ...page, sizeAs: event.currentTarget.value.trim() || undefined }) })
              }
              classNames={{ input: "mono" }}
            />
          </>
        )}
        <TextInput
          label="Changed since: parameter"
          placeholder="it can't be asked"
          value={from.since?.parameter ?? ""}
          onChange={(event) =>
            put({
              since: event.currentTarget.value.trim()
                ? { ...from.since, parameter: event.currentTarget.value.trim() }
                : undefined,
            })
          }
          classNames={{ input: "mono" }}
        />
        <TextInput
          label="Deleted are listed at"
          placeholder="nowhere"
          value={from.gone?.path ?? ""}
          onChange={(event) => {
            const at = event.currentTarget.value.trim();
            const { records, page: paged } = from;
            const likely = said({ records, page: paged });
            put({ gone: at ? { ...(from.gone ?? likely), path: at } : undefined });
          }}
          classNames={{ input: "mono" }}
        />
        <TextInput
          label="Says how many at"
          placeholder="it does not say"
          value={from.count ?? ""}
          onChange={(event) => put({ count: event.currentTarget.value.trim() || undefined })}
          classNames={{ input: "mono" }}
        />
        {from.since && (
          <Select
            label="That very moment"
            data={[
              { value: "included", label: "is told too" },
              { value: "excluded", label: "is left out" },
            ]}
            value={from.since.excludes ? "excluded" : "included"}
            onChange={(value) => {
              const { excludes: _, ...rest } = from.since as SinceForm;
              put({ since: { ...rest, ...(value === "excluded" ? { excludes: true as const } : {}) } });
            }}
            allowDeselect={false}
            {...inPopover}
          />
        )}
        <ReportFields
          from={from}
          onPut={(change) => {
            put(change);
            setParameters(written(others({ ...from, ...change })));
          }}
        />
      </SimpleGrid>
      {!periodsOf(from) && <BulkField bulk={from.bulk} onPut={(bulk) => put({ bulk })} />}
      <Choices
        choices={glance.data?.choices ?? []}
        parameters={from.parameters ?? {}}
        onPut={(name, value) => {
          const all = { ...from.parameters, [name]: value };
          put({ parameters: all });
          setParameters(written(others({ ...from, parameters: all })));
        }}
      />
      {ready && (
        <TypesScan
          from={shown}
          types={from.types}
          sample="what is looked at first fits"
          onFound={(scan) => put({ types: scan.types })}
          onForget={() => put({ types: undefined })}
        />
      )}
      <div className="low">
        <FileGlance glance={glance.data} error={glance.error} />
      </div>
    </Form>
  );
}
