import { keyInAddress, readChange } from "@undercoat/core/http/delta";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

describe("a key in an address", () => {
  test.each([
    ["People(3)", ["id"], ["3"]],
    ["People('Åse')", ["id"], ["Åse"]],
    ["http://h/odata/People('O''Brien%2C%20(jr)')?x=1#y", ["id"], ["O'Brien, (jr)"]],
    ["Shifts(PersonId=3,Number=9007199254740993)", ["Number", "PersonId"], ["9007199254740993", "3"]],
    ["Shifts(Name='a,b=c',Day=2026-03-01)", ["Name", "Day"], ["a,b=c", "2026-03-01"]],
    ["T(Crew.Rank'Mate')", ["rank"], ["Mate"]],
    ["T(id=0000000a-0000-0000-0000-000000000001)", ["id"], ["0000000a-0000-0000-0000-000000000001"]],
    ["/odata/People/7", ["id"], ["7"]],
  ])("%s", (address, members, key) => {
    expect(keyInAddress(address, members)).toEqual(key);
  });

  test.each([
    ["Shifts(PersonId=3)", ["PersonId", "Number"]],
    ["Shifts(3)", ["PersonId", "Number"]],
    ["Shifts(PersonId=3,Number=7,More=1)", ["PersonId", "Number"]],
    ["Shifts('a)", ["a"]],
    ["Shifts()", ["a"]],
    ["Shifts(%E0%A4%A)", ["a"]],
    ["/odata/Shifts/3", ["a", "b"]],
    ["", ["a"]],
  ])("%s does not name %j", (address, members) => {
    expect(keyInAddress(address, members)).toBeNull();
  });

  test("is read as it was written, whatever texts it is made of", () => {
    fc.assert(
      fc.property(fc.string({ unit: "grapheme" }), fc.string({ unit: "grapheme" }), (a, b) => {
        const quoted = (text: string) => encodeURIComponent(`'${text.replaceAll("'", "''")}'`);
        expect(keyInAddress(`http://h/S(A=${quoted(a)},B=${quoted(b)})`, ["B", "A"])).toEqual([b, a]);
        expect(keyInAddress(`S(${quoted(a)})`, ["A"])).toEqual([a]);
      }),
    );
  });
});

describe("an entry of what changed", () => {
  const read = (entry: Record<string, string | null>) =>
    readChange(new Map(Object.entries(entry)), ["id"], ["id", "name"]);
  test("is a record where it says all that was asked for, null among it", () => {
    expect(read({ id: "1", name: null, "@odata.etag": "x" })).toEqual({ kind: "record", key: ["1"] });
    expect(read({ id: "1" })).toEqual({ kind: "partial" });
    expect(read({ id: null, name: "a" })).toEqual({ kind: "partial" });
  });
  test("is gone where it says so, by its members or by its address", () => {
    expect(read({ id: "1", "@removed": '{"reason":"deleted"}' })).toEqual({ kind: "gone", key: ["1"] });
    expect(read({ "@odata.removed": "{}", "@odata.id": "T(2)" })).toEqual({ kind: "gone", key: ["2"] });
    expect(read({ "@odata.context": "x#T/$deletedEntity", id: "T(3)", reason: "deleted" })).toEqual({
      kind: "gone",
      key: ["3"],
    });
    expect(read({ "@odata.context": "x#T/$deletedEntity", reason: "deleted" })).toEqual({ kind: "partial" });
  });
  test("of how records belong together is no record", () => {
    expect(read({ "@context": "x#T/$deletedLink", source: "a" })).toEqual({ kind: "link" });
  });
});
