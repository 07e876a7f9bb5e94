import { isMap, LineCounter, parseDocument, stringify } from "yaml";
import { writtenSettings } from "../connection/kinds.ts";
import type { MailServer, Message } from "../message/message.ts";
import { orderedPipeline } from "./ordered.ts";
import type { ConnectionSettings, Pipeline } from "./pipeline.ts";
import { check, type Problem, projectSchema } from "./schema.ts";

export type ProjectConnection = ConnectionSettings & { password?: GivenSecret };

/** A secret, or the environment variable that holds it. */
export type GivenSecret = string | { env: string };
export type ProjectMessage = Message & { secret?: GivenSecret };
export type ProjectMailServer = MailServer & { password?: GivenSecret };

export interface Project {
  undercoat: 1;
  messages?: Record<string, ProjectMessage>;
  mail?: ProjectMailServer;
  connections?: Record<string, ProjectConnection>;
  pipelines?: Record<string, Omit<Pipeline, "title"> & { title?: string }>;
}

/** A problem of a project file with its line, counted from 1. */
export interface LocatedProblem extends Problem {
  line: number;
  /** which of several files it stands in */
  file?: string;
}

/** One of the files that together say what a project is. */
export interface ProjectFile {
  file: string;
  text: string;
}

/** A parsed file that can say on which line a path stands. */
function parse(text: string) {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: true, version: "1.2" });
  /** The line of the deepest part of a path that the file has. */
  const lineOf = (path: (string | number)[]): number => {
    for (let depth = path.length; depth > 0; depth--) {
      const parent = depth === 1 ? document.contents : document.getIn(path.slice(0, depth - 1), true);
      const pair = isMap(parent)
        ? parent.items.find((item) => String(item.key) === String(path[depth - 1]))
        : undefined;
      const node = (pair?.key ?? (depth > 1 ? document.getIn(path.slice(0, depth), true) : undefined)) as
        | { range?: [number, number, number] }
        | undefined;
      if (node?.range) return lines.linePos(node.range[0]).line;
    }
    return 1;
  };
  return { document, lines, lineOf };
}

/** Tells on which line of a project file each problem stands. */
export function locate(text: string, problems: readonly Problem[]): LocatedProblem[] {
  const { lineOf } = parse(text);
  return problems.map((problem) => ({ ...problem, line: lineOf(problem.path) }));
}

/**
 * Reads a project file. Every problem is told with its line; a file with problems gives no project.
 * Numbers that YAML would read as such where the format wants text (`lookBack: 100`) are taken as written.
 */
export function readProject(text: string): { project: Project | null; problems: LocatedProblem[] } {
  const { document, lines } = parse(text);
  if (document.errors.length)
    return {
      project: null,
      problems: document.errors.map((error) => ({
        path: [],
        message: (error.message.split("\n")[0] ?? "").replace(/ at line \d+.*$/, ""),
        line: lines.linePos(error.pos[0]).line,
      })),
    };
  if (!isMap(document.contents))
    return {
      project: null,
      problems: [{ path: [], message: "The file is not a project file: it starts with undercoat: 1", line: 1 }],
    };
  let value: unknown;
  try {
    value = document.toJS();
  } catch {
    return {
      project: null,
      problems: [{ path: [], message: "The file repeats its parts too often by aliases", line: 1 }],
    };
  }
  normalize(value);
  const { value: project, problems } = check<Project>(projectSchema, value);
  return problems.length ? { project: null, problems: locate(text, problems) } : { project, problems: [] };
}

/**
 * Reads several files as one project. What two of them say of one connection or pipeline is a problem, for neither comes first.
 */
export function readProjects(files: readonly ProjectFile[]): { project: Project | null; problems: LocatedProblem[] } {
  const problems: LocatedProblem[] = [];
  const whole: Project = { undercoat: 1, messages: {}, connections: {}, pipelines: {} };
  const twice = (file: string, text: string, path: string[], what: string) =>
    problems.push({
      ...(locate(text, [{ path, message: `Another file says what ${what} is too` }])[0] as LocatedProblem),
      file,
    });
  for (const { file, text } of files) {
    const { project, problems: own } = readProject(text);
    problems.push(...own.map((problem) => (file ? { ...problem, file } : problem)));
    if (project?.mail) {
      if (whole.mail) twice(file, text, ["mail"], "mail");
      whole.mail = project.mail;
    }
    for (const part of ["messages", "connections", "pipelines"] as const)
      for (const [name, entry] of Object.entries(project?.[part] ?? {})) {
        const held = whole[part] as Record<string, unknown>;
        if (Object.hasOwn(held, name)) twice(file, text, [part, name], name);
        held[name] = entry;
      }
  }
  return problems.length ? { project: null, problems } : { project: whole, problems: [] };
}

/** Tells in which of several files, and on which of its lines, each problem stands. */
export function locateAmong(files: readonly ProjectFile[], problems: readonly Problem[]): LocatedProblem[] {
  const [first] = files;
  if (!first) return [];
  if (files.length === 1) return locate(first.text, problems);
  const texts = files.map(({ file, text }) => ({ file, text, project: readProject(text).project }));
  return problems.flatMap((problem) => {
    const [part, name] = problem.path.map(String);
    const holder =
      texts.find(({ project }) => Object.hasOwn(project?.[part as "pipelines"] ?? {}, name ?? "")) ?? texts[0];
    return locate(holder?.text ?? "", [problem]).map((located) => ({ ...located, file: holder?.file ?? "" }));
  });
}

interface LooseLoad {
  watermark?: { lookBack?: unknown };
  columns?: Record<string, unknown>;
  rules?: Record<string, unknown>;
}

/** Members that YAML reads as numbers or as true and false, where an expression is meant. */
function asText(members: Record<string, unknown> | undefined): void {
  for (const [name, value] of Object.entries(members ?? {}))
    if (members && (typeof value === "number" || typeof value === "boolean")) members[name] = String(value);
}

function normalize(value: unknown): void {
  const project = value as {
    pipelines?: Record<string, { loads?: Record<string, LooseLoad> }>;
    connections?: Record<string, { tls?: unknown }>;
  };
  for (const pipeline of Object.values(project.pipelines ?? {}))
    for (const load of Object.values(pipeline?.loads ?? {})) {
      if (typeof load?.watermark?.lookBack === "number") load.watermark.lookBack = String(load.watermark.lookBack);
      asText(load?.columns);
      asText(load?.rules);
    }
  for (const connection of Object.values(project.connections ?? {})) {
    // An unquoted `off` is false to readers of YAML 1.1; this one keeps the word, but a tool may have rewritten it.
    if (connection && connection.tls === false) connection.tls = "off";
  }
}

/** What a project file is written of. */
export interface ProjectParts {
  connections: Record<string, ConnectionSettings>;
  pipelines: Record<string, Pipeline>;
  messages?: Record<string, Message>;
  mail?: MailServer | null;
}

/** The project file of all that is told; passwords and secrets are left out. */
export function writeProject({ connections, pipelines, messages = {}, mail = null }: ProjectParts): string {
  const bare = Object.fromEntries(
    Object.entries(connections).map(([name, settings]) => [name, writtenSettings(settings)]),
  );
  const ordered = Object.fromEntries(
    Object.entries(pipelines).map(([name, pipeline]) => [name, orderedPipeline(pipeline)]),
  );
  return stringify(
    {
      undercoat: 1,
      ...(Object.keys(messages).length ? { messages } : {}),
      ...(mail ? { mail } : {}),
      connections: bare,
      pipelines: ordered,
    },
    { lineWidth: 110, version: "1.2" },
  );
}
