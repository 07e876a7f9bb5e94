import { type ServerSettings, serverDefaults } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";
import { ServerFields, serverInitial, serverSettings, serverWrong } from "./network.tsx";

export const postgres: KindForm<ServerSettings> = {
  title: "PostgreSQL",
  warehouse: true,
  password: true,
  initial: (settings) => serverInitial(settings, serverDefaults.port),
  wrong: serverWrong,
  settings: (fields) => ({ kind: "postgres", ...serverSettings(fields) }),
  Fields: ServerFields,
};
