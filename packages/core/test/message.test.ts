import { mailText, subjectOf } from "@undercoat/core/message/delivery";
import type { Message } from "@undercoat/core/message/message";
import { afterLook, afterRun, type EndedLoad, type EndedRun, type Trouble } from "@undercoat/core/message/trouble";
import { readProject, writeProject } from "@undercoat/core/pipeline/project";
import { emptyTally, noFindings } from "@undercoat/core/run/run";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const message: Message = {
  to: "mail",
  address: "a@b.example",
  on: ["failed", "disagrees", "rejected", "late", "drift"],
};
const load = (more: Partial<EndedLoad> = {}): EndedLoad => ({
  load: "trip",
  line: "",
  into: "harbour.trip",
  status: "finished",
  tally: { ...emptyTally, read: "10", new: "10" },
  verdict: "proved",
  failure: null,
  findings: noFindings,
  disagreeing: false,
  ...more,
});
const failed = (line = "", words = "the source does not answer") =>
  load({ line, status: "failed", verdict: null, failure: { message: words } });
const run = (loads: EndedLoad[], more: Partial<EndedRun> = {}): EndedRun => ({
  pipeline: "trips",
  kind: "load",
  scope: { kind: "due" },
  loads,
  ...more,
});

/** What is told of runs that follow each other. */
function told(runs: EndedRun[], of: Message = message): string[][] {
  let open: Trouble[] = [];
  return runs.map((one) => {
    const change = afterRun(of, open, one);
    const at = ({ load, line, kind }: Trouble) => `${load}/${line}/${kind}`;
    const gone = new Set([...change.closed, ...change.opened].map(at));
    open = [...open.filter((trouble) => !gone.has(at(trouble))), ...change.opened];
    return [...change.ended.map(({ kind }) => `over ${kind}`), ...change.began.map(({ kind }) => kind)];
  });
}

describe("one trouble is told once, and once that it is over", () => {
  test("failing again in the same words is not told again, in other words it is", () => {
    expect(
      told([run([failed()]), run([failed()]), run([failed("", "no right")]), run([load()]), run([load()])]),
    ).toEqual([["failed"], [], ["failed"], ["over failed"], []]);
  });

  test("forty sets that one source fails are one message, over with the last of them", () => {
    const sets = Array.from({ length: 40 }, (_, at) => `set${at}`);
    const fail = sets.map((set) => run([failed(set)]));
    const mend = sets.map((set) => run([load({ line: set })]));
    expect(told([...fail, ...mend]).flat()).toEqual(["failed", "over failed"]);
  });

  test("a proof of a part does not end what disagrees elsewhere; a load that failed is not mended by a proof", () => {
    const disagrees = run([load({ verdict: "disagrees", disagreeing: true })]);
    const slice = run([load({ disagreeing: true })], { scope: { kind: "slice", slice: "2026-11-20" } });
    expect(told([disagrees, slice, run([load()], { kind: "prove" })])).toEqual([["disagrees"], [], ["over disagrees"]]);
    expect(told([run([failed()]), run([load()], { kind: "prove" }), run([load()])])).toEqual([
      ["failed"],
      [],
      ["over failed"],
    ]);
    expect(told([run([failed()], { kind: "prove" }), run([load()], { kind: "prove" })])).toEqual([
      ["failed"].map(() => "proof"),
      ["over proof"],
    ]);
  });

  test("rejected rows count from a number on, in a part as in the whole, and are over with a whole run alone", () => {
    const rejecting = (rejected: string, scope: EndedRun["scope"] = { kind: "due" }) =>
      run([load({ tally: { ...emptyTally, read: "10", new: "1", rejected } })], { scope });
    const over: Message = { ...message, over: 3 };
    expect(
      told([rejecting("3"), rejecting("4"), rejecting("0", { kind: "keys", keys: [] }), rejecting("3")], over),
    ).toEqual([[], ["rejected"], [], ["over rejected"]]);
  });

  test("another number of rejected rows is the same trouble, of another load it is another", () => {
    const rejecting = (rejected: string, of = "trip") =>
      load({ load: of, into: `harbour.${of}`, tally: { ...emptyTally, read: "10", new: "1", rejected } });
    expect(told([run([rejecting("4")]), run([rejecting("5")]), run([rejecting("5", "trip2")])])).toEqual([
      ["rejected"],
      [],
      ["rejected"],
    ]);
  });

  test("drift is told once while it stays; a cancelled load says nothing", () => {
    const drift = [{ column: "note", kind: "added" as const, from: null, to: "text", done: "ignored" as const }];
    const drifting = run([load({ findings: { ...noFindings, drift } })]);
    expect(told([drifting, drifting, run([load()])])).toEqual([["drift"], [], ["over drift"]]);
    expect(told([run([failed()]), run([load({ status: "cancelled", verdict: null })])])).toEqual([["failed"], []]);
  });

  test("only what was asked for is told, of the pipelines that were named", () => {
    const some: Message = { ...message, on: ["disagrees"] };
    expect(told([run([failed()])], some)).toEqual([[]]);
    expect(told([run([failed()])], { ...message, pipelines: ["others"] })).toEqual([[]]);
  });

  test("late is told and over", () => {
    const late = afterLook([], "trips", "Trips was due and has not begun");
    expect(late.began).toHaveLength(1);
    expect(afterLook(late.opened, "trips", "Trips was due and has not begun").began).toEqual([]);
    expect(afterLook(late.opened, "trips", null).ended).toHaveLength(1);
  });

  const step = fc.record({ set: fc.constantFrom("a", "b", "c"), good: fc.boolean(), words: fc.constantFrom("x", "y") });
  const ends = ["a", "b", "c"].map((set) => run([load({ line: set })]));
  const runsOf = (steps: { set: string; good: boolean; words: string }[]) =>
    steps.map(({ set, good, words }) => run([good ? load({ line: set }) : failed(set, words)]));

  test("whatever happens, one trouble begins and ends in turn, and has ended once all is well", () => {
    fc.assert(
      fc.property(fc.array(step, { maxLength: 40 }), (steps) => {
        const words = told([...runsOf(steps.map((one) => ({ ...one, words: "x" }))), ...ends]).flat();
        const began = words.filter((word) => word === "failed").length;
        expect(words).toEqual(Array.from({ length: began * 2 }, (_, at) => (at % 2 ? "over failed" : "failed")));
      }),
    );
  });

  test("however words change, nothing is left open once all is well", () => {
    fc.assert(
      fc.property(fc.array(step, { maxLength: 40 }), (steps) => {
        const words = told([...runsOf(steps), ...ends]).flat();
        expect(words.at(-1)).toBe(steps.some(({ good }) => !good) ? "over failed" : undefined);
      }),
    );
  });
});

test("a mail says what is wrong, the tally and where to look; its subject is one line", () => {
  const says = "harbour.trip failed: no\r\nBcc: everybody@example.org";
  const body = {
    type: "trouble.began" as const,
    timestamp: "2026-11-27T10:00:00Z",
    data: {
      pipeline: "trips",
      title: "Trips",
      url: "http://here/pipelines/trips",
      troubles: [{ load: "trip", line: "", kind: "failed" as const, says }],
      run: {
        id: 7,
        kind: "load" as const,
        status: "failed" as const,
        set: "north",
        url: "http://here/runs/7",
        loads: [
          {
            load: "trip",
            into: "harbour.trip",
            status: "finished" as const,
            tally: { ...emptyTally, read: "3", new: "1", same: "2" },
            watermark: null,
            verdict: "proved",
            error: null,
          },
        ],
      },
    },
  };
  expect(subjectOf(body)).toBe("Trips: harbour.trip failed: no Bcc: everybody@example.org");
  expect(mailText(body)).toContain("harbour.trip: 3 read = 1 new + 0 changed + 2 same + 0 rejected; proved");
  expect(mailText(body)).toContain("The run: http://here/runs/7");
});

describe("the project file", () => {
  const file = (lines: string) => readProject(`undercoat: 1\n${lines}`);
  test("names messages and the mail server, and is written again without secrets", () => {
    const { project, problems } = file(`messages:
  office: { to: webhook, url: "http://127.0.0.1:4470/in", secret: { env: OFFICE_SECRET }, headers: { X-Site: north }, on: [failed, disagrees, rejected, late, drift, finished], pipelines: [trips] }
  night-desk: { to: mail, address: night@kestrel.example, on: [failed, disagrees] }
mail: { host: 127.0.0.1, port: 4471, from: undercoat@kestrel.example, password: not-to-be-seen }
`);
    expect(problems).toEqual([]);
    const bare = { office: { ...project?.messages?.office }, "night-desk": project?.messages?.["night-desk"] };
    delete (bare.office as { secret?: unknown }).secret;
    const written = writeProject({ connections: {}, pipelines: {}, messages: bare as never, mail: null });
    expect(written).not.toContain("OFFICE_SECRET");
    expect(readProject(written).project?.messages).toEqual(bare);
  });

  test.each([
    ["messages:\n  a: { to: pigeon, on: [failed] }", "to"],
    ["messages:\n  a: { to: webhook, url: ftp://x/y, on: [failed] }", "url"],
    ["messages:\n  a: { to: webhook, url: 'http://x/y', on: [] }", "on"],
    ["messages:\n  a: { to: webhook, url: 'http://x/y', on: [failed], secret: short }", "secret"],
    [
      "messages:\n  a: { to: webhook, url: 'http://x/y', on: [failed], headers: { Authorization: x } }",
      "Authorization",
    ],
    ["messages:\n  a: { to: webhook, url: 'http://x/y', on: [failed], headers: { X: \"a\\nb\" } }", "X"],
    ["messages:\n  a: { to: mail, address: nobody, on: [failed] }", "address"],
    ["messages:\n  a: { to: mail, address: a@b.example, on: [late], late: { by: 25:00 } }", "by"],
    ["mail: { host: a/b, port: 25, from: a@b.example }", "host"],
  ])("tells what is wrong: %s", (lines, part) => {
    const { problems } = file(lines);
    expect(problems.map(({ path, message: words }) => `${path.join(".")} ${words}`).join(" ")).toContain(part);
    expect(problems[0]?.line).toBe(lines.startsWith("mail") ? 2 : 3);
  });
});
