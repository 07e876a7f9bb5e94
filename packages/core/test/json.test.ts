import {
  ExpectedMembers,
  flattenedMembers,
  JsonFault,
  JsonLines,
  JsonList,
  membersOf,
} from "@undercoat/core/file/json";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const plain = (text: string) => Object.fromEntries(membersOf(text).values);

describe("a record", () => {
  test("keeps its numbers as they were written, and tells null, nothing and an empty text apart", () => {
    expect(
      plain(
        '{"big": 9007199254740993, "share":0.1,"tiny":1e-7, "money":2.50,"none":null,"empty":"","yes":true, "text":"a\\u00e9\\n\\"b\\""}',
      ),
    ).toEqual({
      big: "9007199254740993",
      share: "0.1",
      tiny: "1e-7",
      money: "2.50",
      none: null,
      empty: "",
      yes: "true",
      text: 'aé\n"b"',
    });
  });

  test("gives what it holds within as it stands", () => {
    const { values, nested } = membersOf('{"o": {"a": [1, 2.50, "}"]}, "l":[], "t":"[1]"}');
    expect(Object.fromEntries(values)).toEqual({ o: '{"a": [1, 2.50, "}"]}', l: "[]", t: "[1]" });
    expect([...nested]).toEqual(["o", "l"]);
  });

  test.each([
    "",
    "1",
    "[]",
    "{",
    '{"a":1',
    '{"a":1}}',
    '{"a":01}',
    '{"a":1,}',
    "{a:1}",
    '{"a":1}x',
    '{"a":1,"a":2}',
    '{"a":"\n"}',
    '{"a":NaN}',
    `{"a":${"[".repeat(600)}`,
  ])("is not %j", (text) => expect(() => membersOf(text)).toThrow(JsonFault));

  test("says what the standard's reader says, and refuses what that refuses", () => {
    fc.assert(
      fc.property(fc.dictionary(fc.string(), fc.jsonValue()), (value) => {
        const { values, nested } = membersOf(JSON.stringify(value));
        expect([...values.keys()].sort()).toEqual(Object.keys(value).sort());
        for (const [name, text] of values) {
          const given = value[name];
          if (given === null || typeof given === "string") expect(text).toBe(given);
          else expect(JSON.parse(text ?? "")).toEqual(JSON.parse(JSON.stringify(given)));
          expect(nested.has(name)).toBe(typeof given === "object" && given !== null);
        }
      }),
    );
    fc.assert(
      fc.property(
        fc.string({ unit: fc.constantFrom('"', "{", "}", "[", "]", ",", ":", "1", "a", " ", "\\"), maxLength: 12 }),
        (text) => {
          let standard: unknown;
          try {
            standard = JSON.parse(`{${text}}`);
          } catch {
            expect(() => membersOf(`{${text}}`)).toThrow(JsonFault);
            return;
          }
          if (Object.keys(standard as object).length === membersOfOrNull(`{${text}}`)?.size) return;
          expect(() => membersOf(`{${text}}`)).toThrow("twice");
        },
      ),
    );
  });
});

function membersOfOrNull(text: string) {
  try {
    return membersOf(text).values;
  } catch {
    return null;
  }
}

test("records are the same wherever a text is cut into pieces", () => {
  const cut = (text: string, pieces: number[]) => {
    const cuts = [...new Set([0, ...pieces.map((at) => at % (text.length + 1)), text.length])].sort((a, b) => a - b);
    return cuts.slice(0, -1).map((from, at) => [text.slice(from, cuts[at + 1]), at === cuts.length - 2] as const);
  };
  const record = fc.dictionary(fc.string(), fc.jsonValue());
  fc.assert(
    fc.property(
      fc.array(record, { minLength: 1 }),
      fc.constantFrom(0, 2),
      fc.array(fc.nat()),
      (all, indent, pieces) => {
        const list = new JsonList();
        const listed = cut(JSON.stringify(all, null, indent), pieces).flatMap(([piece, last]) => [
          ...list.read(piece, last),
        ]);
        expect(listed.map(({ text, number }) => [number, JSON.parse(text)])).toEqual(
          all.map((one, at) => [at + 1, JSON.parse(JSON.stringify(one))]),
        );
        const lines = new JsonLines();
        const lined = cut(all.map((one) => JSON.stringify(one)).join("\n"), pieces).flatMap(([piece, last]) => [
          ...lines.read(piece, last),
        ]);
        expect(lined.map(({ text }) => JSON.parse(text))).toEqual(all.map((one) => JSON.parse(JSON.stringify(one))));
      },
    ),
  );
});

test("a text that is no list is one record, and an empty list none", () => {
  const read = (text: string) => [...new JsonList().read(text, true)].map((one) => one.text);
  expect(read(' {"a": [1, 2]} ')).toEqual(['{"a": [1, 2]}']);
  expect(read("[ ]")).toEqual([]);
  expect(read('[{"a":"]"},\n 7]')).toEqual(['{"a":"]"}', "7"]);
});

describe("a record taken apart", () => {
  const flat = (text: string) => Object.fromEntries(flattenedMembers(text).values);

  test("has a member of an object under both names, however deep; lists and numbers stay as they are", () => {
    expect(flat('{"a":{"b":{"c":1.10,"d":[{"e":1}]},"f":null},"g":"{x","h":{}}')).toEqual({
      a_b_c: "1.10",
      a_b_d: '[{"e":1}]',
      a_f: null,
      g: "{x",
    });
    expect([...flattenedMembers('{"a":{"b":[1]},"c":[2]}').nested]).toEqual(["a_b", "c"]);
  });

  test("two ways to one name are a fault, not a choice", () => {
    expect(() => flat('{"a":{"b":1},"a_b":2}')).toThrow("has a_b twice: by itself, and within another member");
    expect(() => flat('{"a":{"b":1,"b":2}}')).toThrow("names b twice");
  });
});

describe("members that are expected", () => {
  const names = ["id", "name", "fare", "of"];
  const expected = new ExpectedMembers(names);
  const read = (text: string) => {
    const found = expected.read(text);
    return found && { fields: found.fields, nested: found.nested.map((place) => names[place]) };
  };

  test.each([
    ['{"id":1,"name":"a","fare":2.50,"of":{"b":[1]}}', ["1", "a", "2.50", '{"b":[1]}']],
    ['{"id":1,"fare":null}', ["1", null, null, null]],
    [' { "name" : "x" , "of" : [ ] } ', [null, "x", null, "[ ]"]],
  ])("%s is taken in one pass", (text, fields) => {
    expect(read(text)?.fields).toEqual(fields);
  });

  test.each([
    '{"name":"a","id":1}',
    '{"id":1,"id":2}',
    '{"id":1,"other":2}',
    '{"id":01}',
    '{"id":1,}',
    '{"id":1} x',
    '{"name":"a\\n"}',
    '{"of":{"a":}}',
    '{"of":[1,2}',
    '{"id"',
    '{"id":',
    "{}",
    "[]",
    "",
  ])("of %s nothing is said", (text) => {
    expect(read(text)).toBeNull();
  });

  test("what is said is what taking it apart says, whatever has become of the text", () => {
    const value = fc.oneof(
      fc.constantFrom("1", "-0.50", "1e-7", "null", "true", '"x"', '""', '"{"', "[1,{}]", '{"id":1}', "nul", "1.", '"'),
      fc.string({ maxLength: 4 }).map((text) => JSON.stringify(text)),
    );
    const text = fc
      .tuple(
        fc.array(fc.tuple(fc.constantFrom(...names, "more"), value), { maxLength: 5 }),
        fc.nat(),
        fc.constantFrom("", " ", ",", '"', "}", "\\"),
      )
      .map(([all, at, sign]) => {
        const whole = `{${all.map(([name, of]) => `"${name}":${of}`).join(",")}}`;
        const place = at % (whole.length + 1);
        return whole.slice(0, place) + sign + whole.slice(place);
      });
    fc.assert(
      fc.property(text, (given) => {
        const found = read(given);
        if (found === null) return;
        const { values, nested } = membersOf(given);
        expect(found.fields).toEqual(names.map((name) => values.get(name) ?? null));
        expect(found.nested).toEqual([...nested]);
        expect([...values.keys()].every((name) => names.includes(name))).toBe(true);
      }),
      { numRuns: 3000 },
    );
  });
});
