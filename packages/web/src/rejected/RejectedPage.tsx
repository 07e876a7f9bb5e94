import { Button, Checkbox, Drawer, Select } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useInfiniteQuery, useMutation } from "@tanstack/react-query";
import type { RejectedRow } from "@undercoat/core/api/api";
import { againTogether } from "@undercoat/core/run/rejected";
import { useState } from "react";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { answer, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { DataTable } from "../parts/DataTable.tsx";
import { Filter } from "../parts/Filter.tsx";
import { counted, grouped, moment } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { useRuns } from "../parts/runs.ts";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { Reasons } from "./Reasons.tsx";

/** Numbers are a warehouse's own: rows of two may have the same. */
const nameOf = (row: RejectedRow) => `${row.pipeline}/${row.load}/${row.id}`;

/** Whether a row's source has been told of it. */
function toldWords({ state, at, why }: NonNullable<RejectedRow["told"]>): string {
  const when = moment(at);
  if (state === "sent") return `Its source was told ${when}.`;
  if (state === "refused") return `Its source refused to be told ${when}${why ? `: ${why}` : ""}.`;
  if (state === "lacking")
    return `Its source can't be told${why ? `: ${why}` : ", as what is said of it is not known"}.`;
  return `Its source was told ${when}, but did not answer${why ? `: ${why}` : ""}. It is not told again.`;
}

/** What one rejected row held, and where it came from. */
function Detail({
  row,
  onClose,
  onAgain,
  canEdit,
}: {
  row: RejectedRow;
  onClose: () => void;
  onAgain: () => void;
  canEdit: boolean;
}) {
  return (
    <Drawer
      opened
      onClose={onClose}
      position="right"
      title={row.key ? `${row.target} ${row.key.join(", ")}` : row.target}
      closeButtonProps={{ "aria-label": "Close" }}
    >
      <p className="lead strong">{row.message}</p>
      <p className="quiet" style={{ margin: "4px 0 14px" }}>
        Rejected by <Link to={`/runs/${row.run}`}>run {row.run}</Link>, {moment(row.at)}.{" "}
        {row.gone ? "It has left the list since." : ""} {row.told && toldWords(row.told)}
      </p>
      {row.original ? (
        <table className="plain">
          <thead>
            <tr>
              <th>Column</th>
              <th>Value at the source</th>
            </tr>
          </thead>
          <tbody>
            {Object.entries(row.original).map(([name, value]) => (
              <tr key={name}>
                <td className="mono">{name}</td>
                <td className={`mono wrap${name === row.column ? " differs" : ""}`}>
                  {value === null ? (
                    <span className="quiet">null</span>
                  ) : value === "" ? (
                    <span className="quiet">''</span>
                  ) : (
                    value
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <p className="quiet">Its values were not kept: the load keeps those of its first rejected rows only.</p>
      )}
      {canEdit && !row.gone && (
        <Button mt="md" onClick={onAgain}>
          Load this row again
        </Button>
      )}
    </Drawer>
  );
}

/** Every row that a load turned away: by reason, one by one, as CSV, and to be loaded again. */
export default function RejectedPage() {
  const canEdit = useCanEdit();
  const [place, setPlace] = useUrlState("load");
  const [reason, setReason] = useUrlState("reason");
  const [text, setText] = useUrlState("text");
  const [run] = useUrlState("run");
  const [all, setAll] = useUrlState("all");
  const [needle] = useDebouncedValue(text, 200);
  const [open, setOpen] = useState<RejectedRow | null>(null);
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const [pipeline = "", load = ""] = place.split("/");
  const filter = { pipeline, load, text: needle, run, all: all ? "true" : "" };
  const query = useInfiniteQuery({
    ...queries.rejected({ ...filter, reason }),
    placeholderData: keepPreviousData,
  });
  // The chart shows every reason, also while one of them is chosen.
  const overview = useInfiniteQuery({
    ...queries.rejected({ ...filter, reason: "" }),
    placeholderData: keepPreviousData,
  });
  const again = useRuns();
  const rows = query.data?.pages.flatMap((page) => page.rows) ?? [];
  const counts = overview.data?.pages[0]?.counts ?? [];
  const total = counts.reduce((sum, count) => sum + BigInt(count.rows), 0n);
  const loads = [...new Set(counts.map((count) => `${count.pipeline}/${count.load}`))];
  const unreached = query.data?.pages[0]?.unreached ?? [];
  const chosen = rows.filter((row) => picked.has(nameOf(row)) && !row.gone);
  const narrowed = reason !== "" || text !== "" || run !== "" || place !== "";
  /** One run a pipeline, of all its loads that are meant; without `ids` of all their rejected rows. */
  const loadAgain = (choices: ReturnType<typeof againTogether>) =>
    again.mutate(
      choices.map(({ pipeline, loads, ids, given }) => ({
        pipeline,
        given,
        kind: "repair",
        loads,
        scope: { kind: "rejected", ids },
        reason: ids ? `${counted(ids.length, "rejected row")} again` : "rejected rows again",
      })),
    );
  const givenOf = (run: number) => query.data?.pages.findLast((page) => page.givens[run])?.givens[run] ?? {};
  const choicesOf = (of: readonly RejectedRow[]) =>
    againTogether(
      of.map(({ pipeline, load, id, run }) => ({ pipeline, loads: [load], ids: [id], given: givenOf(run) })),
    );
  // All that the filter says, also what the table has not fetched yet.
  const filtered = useMutation({
    mutationFn: () => answer(server.rejected.choices.$get({ query: { ...filter, reason, text } })),
    onSuccess: (choices) => choices.length > 0 && loadAgain(choices),
  });
  const everything = () =>
    againTogether(
      counts.map(({ pipeline, load, run }) => ({
        pipeline,
        loads: [load],
        ids: null,
        given: overview.data?.pages[0]?.givens[run] ?? {},
      })),
    );
  return (
    <Page
      title="Rejected rows"
      trail={[{ to: "/pipelines", of: "Pipelines" }, "Rejected rows"]}
      heading={
        !query.data
          ? "Rejected rows"
          : total === 0n
            ? "No row is rejected"
            : `${grouped(String(total))} row${total === 1n ? " is" : "s are"} rejected in ${counted(loads.length, "load")}`
      }
      actions={
        <>
          {total > 0n && (
            <Button
              component="a"
              variant="default"
              href={`/api${server.rejected.csv.$path({ query: { ...filter, reason } })}`}
              download
            >
              Export {narrowed ? "these" : "all"} as CSV
            </Button>
          )}
          {canEdit && total > 0n && (
            <Button
              loading={again.isPending || filtered.isPending || query.isPlaceholderData}
              onClick={() =>
                chosen.length
                  ? loadAgain(choicesOf(chosen))
                  : reason || needle || run
                    ? filtered.mutate()
                    : loadAgain(everything())
              }
            >
              {chosen.length
                ? `Load ${counted(chosen.length, "chosen row")} again`
                : `Load ${narrowed ? "these" : "all"} again`}
            </Button>
          )}
        </>
      }
    >
      <ErrorNote error={query.error ?? again.error ?? filtered.error} />
      {unreached.length > 0 && (
        <p className="note">{unreached.join(", ")} could not be reached; its rejected rows are not shown.</p>
      )}
      {query.data && total === 0n && !needle && !run && !place ? (
        <p className="quiet" style={{ maxWidth: 560 }}>
          Rows that break a type, a rule or the key of a load stand here with the reason and what they held. Rules are
          set in the Shape band of a <Link to="/pipelines">pipeline</Link>.
        </p>
      ) : (
        <div style={{ display: "grid", gridTemplateColumns: "360px minmax(0, 1fr)", gap: 28 }}>
          <Reasons counts={counts} chosen={reason} onChoose={setReason} />
          <section aria-label="Rows">
            <div className="actions" style={{ marginBottom: 10 }}>
              <Filter of="rows" value={text} onChange={setText} w={200} />
              <Select
                aria-label="Load"
                placeholder="Any load"
                clearable
                data={[...new Set([...loads, ...(place ? [place] : [])])]}
                value={place || null}
                onChange={(value) => setPlace(value ?? "")}
                w={230}
              />
              <Checkbox
                label="also those that have left the list"
                checked={all !== ""}
                onChange={(event) => setAll(event.currentTarget.checked ? "true" : "")}
              />
            </div>
            <DataTable
              label="Rejected rows"
              height="calc(100vh - 250px)"
              rows={rows}
              rowKey={nameOf}
              onOpen={setOpen}
              chosen={(row) => picked.has(nameOf(row))}
              columns={[
                {
                  head: <span className="visually-hidden">Chosen</span>,
                  width: "36px",
                  cell: (row) => (
                    <input
                      type="checkbox"
                      aria-label={`Choose ${row.key?.join(", ") ?? row.id}`}
                      checked={picked.has(nameOf(row))}
                      disabled={row.gone}
                      onClick={(event) => event.stopPropagation()}
                      onChange={() => {
                        const next = new Set(picked);
                        if (!next.delete(nameOf(row))) next.add(nameOf(row));
                        setPicked(next);
                      }}
                    />
                  ),
                },
                { head: "Table", width: "170px", cell: (row) => <span className="mono">{row.target}</span> },
                {
                  head: "Key",
                  width: "110px",
                  cell: (row) => <span className="mono">{row.key?.join(", ") ?? "–"}</span>,
                },
                {
                  head: "Reason",
                  width: "minmax(0, 1fr)",
                  cell: (row) => <span className={row.gone ? "quiet" : "lead"}>{row.message}</span>,
                },
                { head: "Run", width: "60px", right: true, cell: (row) => <span className="mono">{row.run}</span> },
                {
                  head: "When",
                  width: "150px",
                  cell: (row) => (row.gone ? <span className="quiet">left the list</span> : moment(row.at)),
                },
              ]}
            />
            {query.hasNextPage && (
              <button type="button" className="link" onClick={() => query.fetchNextPage()}>
                Show more
              </button>
            )}
          </section>
        </div>
      )}
      {open && (
        <Detail
          row={open}
          canEdit={canEdit}
          onClose={() => setOpen(null)}
          onAgain={() => loadAgain(choicesOf([open]))}
        />
      )}
    </Page>
  );
}
