import type Joi from "joi";
import type { GivenSecret } from "../pipeline/project.ts";

/** What the product must know of a kind of connection without knowing which it is. */
export interface ConnectionKind<Settings> {
  /** `PostgreSQL` */
  title: string;
  /** the schema of each setting */
  settings: Joi.SchemaMap<Settings>;
  /** what a connection of it signs in with, which is kept apart and never given out; null where it needs nothing */
  secret: "password" | null;
  /** true where loads can write into it */
  warehouse: boolean;
  /** true for a source that SQL is asked of; others take no query and no condition */
  asks: boolean;
  /** what it lists: tables, files, paths of an application, or sets of records by their names */
  lists: "tables" | "files" | "resources" | "sets";
  /** true where files can be dropped onto its page */
  takes: boolean;
  /** how one is told of rows that were turned away: by requests, by SQL statements, or not at all */
  told(settings: Settings): "requests" | "statements" | null;
  /** what a setting is where nothing is said */
  defaults: Partial<Settings>;
  /** settings without what is secret of them, and that, where a file may write it among them */
  apart?(given: Settings & { password?: GivenSecret }): { settings: Settings; password: GivenSecret | undefined };
  /** what only an administrator changes */
  reserved(settings: Settings): readonly string[];
  /** what leads to another place when it changes: a stored secret goes on only where all of it stays */
  address(settings: Settings): readonly (string | number)[];
  /** where it leads, in words: `bookings at 127.0.0.1:5433` */
  place(settings: Settings): string;
  /** as whom, and how protected; null where that says nothing */
  manner(settings: Settings): string | null;
  /** the settings in the order in which a project file tells them, those that say nothing left out */
  written(settings: Settings): Record<string, unknown>;
}
