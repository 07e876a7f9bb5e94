import { JsonFault, listOf, passList, passMembers, passSpace, passValue, placeOf, written } from "../file/json.ts";

/** Where something stands in a text, and the place behind it. */
interface Place {
  from: number;
  to: number;
}

/** What a value is, as its JSON was written; a text without its quotes. */
export interface BodyValue {
  text: string;
  nested: boolean;
}

/** An answer in JSON, taken apart without a value being changed. What it holds is passed over once, however often it is asked. */
export class Body {
  private top: Map<string, Place> | null = null;
  private readonly lists = new Map<number, string[]>();

  /** @param listed where its records are looked for, so that they are cut out as they are passed */
  constructor(
    readonly text: string,
    private readonly listed?: string,
  ) {}

  /** The places of its members, of what is an object; of several of one name the last one's. @throws JsonFault where it is none */
  private members(): Map<string, Place> {
    if (this.top) return this.top;
    const { text, listed, lists } = this;
    const top = new Map<string, Place>();
    passMembers(text, passSpace(text, 0), false, (name, from) => {
      let to: number;
      if (name === listed && text[from] === "[") {
        const values: string[] = [];
        to = passList(text, from, (begins, ends) => values.push(text.slice(begins, ends)));
        lists.set(from, values);
      } else to = passValue(text, from);
      top.set(name, { from, to });
      return to;
    });
    this.top = top;
    return top;
  }

  /** The place of a path of members; a member whose own name has points in it goes before. Null where there is none, or null. */
  private placeAt(path: string | undefined): Place | null {
    const { text } = this;
    if (path === undefined) return placeOf(text, []);
    if (text[passSpace(text, 0)] !== "{") return null;
    const own = this.members().get(path);
    if (own && text.slice(own.from, own.to) !== "null") return own;
    const [first = "", ...rest] = path.split(".");
    const outer = rest.length ? this.members().get(first) : undefined;
    const inner = outer && placeOf(text.slice(outer.from, outer.to), rest);
    return inner ? { from: outer.from + inner.from, to: outer.from + inner.to } : null;
  }

  /** What stands at a path of members. Null where there is nothing, or null. */
  value(path: string | undefined): BodyValue | null {
    const place = this.placeAt(path);
    if (!place) return null;
    const { value, nested } = written(this.text, place.from, place.to);
    return value === null ? null : { text: value, nested };
  }

  /**
   * The records that stand at a path, each as its JSON was written. A list holds them; an object is one. Whether each is JSON
   * shows when it is taken apart.
   * @throws JsonFault where the answer is no JSON, or holds no list or object there
   */
  records(path: string | undefined): string[] {
    const { text } = this;
    const place = this.placeAt(path);
    if (!place) throw new JsonFault(path === undefined ? "is empty" : `has no member ${path}`);
    const { from, to } = place;
    if (path === undefined && text.slice(to).trim() !== "") throw new JsonFault("has text behind its end");
    if (text[from] === "[") return this.lists.get(from) ?? listOf(text, from);
    if (text[from] === "{") return [text.slice(from, to)];
    throw new JsonFault(path === undefined ? "is neither a list nor an object" : `holds no list at ${path}`);
  }

  /** The texts of a list that stands at a path; null where there is none. */
  list(path: string): string[] | null {
    const place = this.placeAt(path);
    if (!place || this.text[place.from] !== "[") return null;
    return listOf(this.text, place.from).flatMap((value) => written(value, 0, value.length).value ?? []);
  }
}

/**
 * The records that a record holds as a list, each as its JSON was written, with some of the record's own members before its
 * own; none where there is no list. A record that can't be taken apart is given itself, so that it does not go unseen.
 * @param each where the list stands: a member's name, or several with points between
 * @param keep names of the record's own members that go along
 */
export function childrenOf(record: string, each: string, keep: readonly string[]): string[] {
  try {
    const place = placeOf(record, [each]) ?? placeOf(record, each.split("."));
    if (!place) return [];
    if (record[place.from] !== "[") return [record];
    const kept = keep.map((name) => {
      const at = placeOf(record, [name]);
      return `${JSON.stringify(name)}:${at ? record.slice(at.from, at.to) : "null"}`;
    });
    return listOf(record, place.from).map((child) => {
      if (kept.length === 0 || !child.startsWith("{")) return child;
      const rest = child.slice(1).trimStart();
      return `{${kept.join(",")}${rest.startsWith("}") ? "" : ","}${rest}`;
    });
  } catch (error) {
    if (!(error instanceof JsonFault)) throw error;
    return [record];
  }
}
