import { spawn } from "node:child_process";
import { existsSync, openSync, readFileSync, rmSync } from "node:fs";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { Command, Option } from "commander";
import { issuePass } from "./account/passes.ts";
import { type BackfillOptions, backfillCommand } from "./cli/backfill.ts";
import { CommandError, clientFromEnvironment } from "./cli/client.ts";
import { applyCommand, exportCommand, restoreCommand, versionsCommand } from "./cli/project.ts";
import { proveCommand, type RunOptions, rehearseCommand, runCommand } from "./cli/runs.ts";
import { ClusterError } from "./cluster/cluster.ts";
import { readSettings, SettingError, type Settings } from "./settings.ts";
import { UserRow } from "./store/models.ts";

const say = (text: string) => console.log(text);

/** Ends the process with a command's exit status, or with one clear sentence; with `--json` that is a document too. */
async function ending(work: () => Promise<number>): Promise<void> {
  try {
    process.exitCode = await work();
  } catch (error) {
    if (process.env.UNDERCOAT_DEBUG) console.error(error);
    const told = error instanceof CommandError || error instanceof ClusterError || error instanceof SettingError;
    const full = (error as NodeJS.ErrnoException).code === "ENOSPC";
    const message = told
      ? (error as Error).message
      : full
        ? "The disk is full."
        : `Undercoat can't go on: ${(error as Error).message}`;
    if (process.argv.includes("--json")) console.log(JSON.stringify({ error: message }));
    console.error(message);
    process.exitCode = error instanceof CommandError ? error.status : 1;
  }
}

/** Leaves the server running in the background and returns once it answers. */
async function startAndWait(command: string, settings: Settings): Promise<number> {
  const ready = join(settings.data, "ready");
  rmSync(ready, { force: true });
  const log = openSync(join(settings.data, "start.log"), "w", 0o600);
  const child = spawn(process.execPath, ["--import", "tsx", fileURLToPath(import.meta.url), command], {
    detached: true,
    stdio: ["ignore", log, log],
    env: { ...process.env, UNDERCOAT_READY: ready },
  });
  const exited = new Promise<number>((done) => child.once("exit", (status) => done(status ?? 1)));
  const answered = (async () => {
    while (!existsSync(ready)) await new Promise((resolve) => setTimeout(resolve, 50));
    return 0;
  })();
  const status = await Promise.race([exited, answered]);
  process.stdout.write(readFileSync(join(settings.data, "start.log"), "utf8"));
  child.unref();
  process.exit(status);
}

/** The settings of a process that reads files. */
async function settle(): Promise<Settings> {
  const settings = readSettings();
  (await import("./process/reach.ts")).settleReach(settings, settings.databaseUrl);
  return settings;
}

async function start(withDemo: boolean, wait: boolean): Promise<number> {
  const settings = await settle();
  if (wait) return startAndWait(withDemo ? "demo" : "start", settings);
  if (withDemo && settings.databaseUrl)
    throw new SettingError("The demo needs the private cluster; unset UNDERCOAT_DATABASE_URL.");
  const { serve } = await import("./process/serve.ts");
  const { leaveToken } = await import("./process/token.ts");
  const demo = await import("@undercoat/demo/demo");
  say("Starting the database");
  const serving = await serve(
    settings,
    withDemo ? (url) => demo.passHour(url(demo.demoNames.bookings), settings.files[0] ?? null) : null,
  );
  let stopping = false;
  const stop = async () => {
    if (stopping) return;
    stopping = true;
    say("Stopping");
    await serving.stop();
    process.exit(0);
  };
  process.on("SIGINT", stop);
  process.on("SIGTERM", stop);
  process.on("SIGHUP", stop);
  try {
    if (withDemo) await (await import("./process/demo.ts")).furnishDemo(serving, settings, say);
    await leaveToken(settings);
    const ada = withDemo ? await UserRow.findOne({ where: { login: "ada" } }) : null;
    say(`Undercoat answers at ${serving.address}`);
    if (ada) say(`Sign in, once and within the hour: ${serving.address}/link#${await issuePass(ada.id, "link")}`);
    const setup = await (await import("./account/first.ts")).issueSetup();
    if (setup) say(`Make the administrator's account, once and within the day: ${serving.address}/link#${setup}`);
    if (process.env.UNDERCOAT_READY)
      (await import("./settings.ts")).writePrivate(settings.data, "ready", serving.address);
    else say("Ctrl-C stops it.");
  } catch (error) {
    await serving.stop();
    throw error;
  }
  await new Promise(() => undefined);
  return 0;
}

async function stopRunning(): Promise<number> {
  const settings = readSettings();
  const file = join(settings.data, "pid");
  if (!existsSync(file)) {
    say("Nothing runs here.");
    return 0;
  }
  const pid = Number(readFileSync(file, "utf8"));
  try {
    process.kill(pid, "SIGTERM");
    for (let tries = 0; tries < 300 && existsSync(file); tries++)
      await new Promise((resolve) => setTimeout(resolve, 100));
    while (existsSync(`/proc/${pid}`)) await new Promise((resolve) => setTimeout(resolve, 50));
  } catch {
    // It was gone already.
  }
  rmSync(file, { force: true });
  say("Stopped.");
  return 0;
}

async function work(): Promise<number> {
  const settings = await settle();
  if (!settings.databaseUrl)
    throw new SettingError(
      "A worker needs UNDERCOAT_DATABASE_URL, the product's database, and UNDERCOAT_SECRET_KEY where it has another data folder than the server.",
    );
  const { Store } = await import("./store/store.ts");
  const { startWorker } = await import("./jobs/worker.ts");
  const store = await Store.open(settings.databaseUrl, settings.key);
  const { default: pino } = await import("pino");
  const worker = await startWorker(store, Number(process.env.UNDERCOAT_PARALLEL ?? 4), pino());
  const stop = async () => {
    await worker.stop().catch(() => undefined);
    process.exit(0);
  };
  process.on("SIGTERM", stop);
  process.on("SIGINT", stop);
  // A worker started by a server ends with it, however the server ended.
  if (process.send) process.on("disconnect", stop);
  else say(`Worker ${process.pid} takes runs. Ctrl-C stops it.`);
  await new Promise(() => undefined);
  return 0;
}

const program = new Command("undercoat")
  .description("Every load proves itself.")
  .showHelpAfterError()
  .exitOverride((error) => process.exit(error.exitCode === 0 ? 0 : 2));
program
  .command("start")
  .description("start the product")
  .option("--wait", "return once it answers")
  .action(({ wait }) => ending(() => start(false, Boolean(wait))));
program
  .command("demo")
  .description("start the product with its demo data")
  .option("--wait", "return once it answers")
  .option("--hour", "let one more hour of business pass in the running demo")
  .action(({ wait, hour }) =>
    ending(async () => {
      if (!hour) return start(true, Boolean(wait));
      await clientFromEnvironment().demo.hour.$post();
      say("One more hour of business has passed at the source.");
      return 0;
    }),
  );
program
  .command("stop")
  .description("stop what start --wait or demo --wait left running")
  .action(() => ending(stopRunning));
program
  .command("worker")
  .description("take runs from the product's database")
  .action(() => ending(work));
program
  .command("apply <file>")
  .description("create or update what a project file names, or all those of a folder as one")
  .option("--check", "say what would change, and change nothing")
  .option("--json")
  .action((file, { json, check }) =>
    ending(() => applyCommand(clientFromEnvironment(), file, { json: Boolean(json), check: Boolean(check) })),
  );
program
  .command("module <name>")
  .description("write a module of your own to begin with, into the folder of modules")
  .action((name) =>
    ending(async () => {
      const { writeModule } = await import("./cli/module.ts");
      say(`${writeModule(readSettings().modules, name)} is written. Name it in a connection of the kind module.`);
      return 0;
    }),
  );
program
  .command("versions <pipeline>")
  .description("list the versions of a pipeline")
  .option("--json", "print one JSON document")
  .action((pipeline, { json }) => ending(() => versionsCommand(clientFromEnvironment(), pipeline, Boolean(json))));
program
  .command("restore <pipeline> <number>")
  .description("make an earlier version of a pipeline the current one")
  .option("--json", "print one JSON document")
  .action((pipeline, number, { json }) =>
    ending(() => restoreCommand(clientFromEnvironment(), pipeline, number, Boolean(json))),
  );
program
  .command("export [pipeline]")
  .description("write the project file, without secrets")
  .option("--json")
  .action((pipeline, { json }) => ending(() => exportCommand(clientFromEnvironment(), pipeline, Boolean(json))));
program
  .command("account <login>")
  .description("make an account on this machine, or print a sign-in link for one; the first is an administrator")
  .option("--name <name>", "its name, as others see it")
  .addOption(new Option("--role <role>", "what it may do").choices(["viewer", "editor", "administrator"]))
  .option("--password-stdin", "read its password from standard input")
  .option("--json", "print one JSON document")
  .action((login, { name, role, passwordStdin, json }) =>
    ending(async () => {
      const { account } = await import("./process/account.ts");
      const password = passwordStdin ? readFileSync(0, "utf8").replace(/\r?\n$/, "") : null;
      const { made, role: given, link } = await account(readSettings(), { login, name, role, password });
      if (json) say(JSON.stringify({ login, made, role: given, link }));
      else
        say(
          `${made ? `${login} is made, ${given === "viewer" ? "a viewer" : given === "editor" ? "an editor" : "an administrator"}.` : `${login} has an account.`}\nSign in, once and within the hour: ${link}`,
        );
      return 0;
    }),
  );
const collect = (value: string, before: string[] = []) => [...before, value];
const runLike = (name: string, description: string) =>
  program
    .command(`${name} <pipeline>`)
    .description(description)
    .option("--load <load>", "only this load; may be repeated", collect)
    .option("--value <name=value>", "a parameter's value; may be repeated", collect)
    .option("--values <set>", "a set of values; one run for each that is named", collect)
    .option("--values-file <file>", "YAML, JSON or CSV with a set of values a row; one run for each")
    .option("--set <address=name>", "what an address names this time, such as trip.from.table=public.trip", collect)
    .option("--json", "print one JSON document");
const withInterval = (command: Command) =>
  command
    .option("--from <time>", "start of an earlier interval, included")
    .option("--to <time>", "end of an earlier interval, excluded");
withInterval(runLike("run", "run a pipeline and wait"))
  .option("--whole", "read the whole dataset again")
  .action((pipeline, options: RunOptions) => ending(() => runCommand(clientFromEnvironment(), pipeline, options)));
withInterval(runLike("rehearse", "say what a run would do, and write nothing"))
  .option("--first <rows>", "look at so many rows of each load only")
  .option("--whole", "as if the whole dataset were read again")
  .action((pipeline, options: RunOptions) => ending(() => rehearseCommand(clientFromEnvironment(), pipeline, options)));
runLike("prove", "prove every slice now")
  .option("--rows", "down to the rows and cells that differ")
  .action((pipeline, options: RunOptions) => ending(() => proveCommand(clientFromEnvironment(), pipeline, options)));
runLike("backfill", "load an earlier interval slice by slice; begun again it goes on with what is left")
  .requiredOption("--from <day>", "the first day")
  .requiredOption("--to <day>", "the day after the last")
  .addOption(new Option("--by <unit>", "into what it is cut").choices(["day", "week", "month"]).default("day"))
  .addOption(new Option("--order <end>", "which end comes first").choices(["newest", "oldest"]).default("newest"))
  .option("--parallel <slices>", "so many slices at a time", "1")
  .action((pipeline, options: BackfillOptions) =>
    ending(() => backfillCommand(clientFromEnvironment(), pipeline, options)),
  );

await program.parseAsync();
