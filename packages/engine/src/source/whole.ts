import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { News } from "./source.ts";

/** What a snapshot says of parts whose source has none that change by themselves, such as a database. */
export abstract class Whole {
  async position(_before: string | null, _plan: LoadPlan): Promise<string | null> {
    return null;
  }

  async news(): Promise<News> {
    throw new Error("A database has no parts that change by themselves");
  }

  parts(): [] {
    return [];
  }

  async finish(): Promise<string[]> {
    return [];
  }
}
