import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";
import { files } from "./files.tsx";
import type { KindForm } from "./kind.ts";
import { postgres } from "./postgres.tsx";

/** The form of every kind of connection; a new one is one line here. */
export const kindForms = { postgres, files } as unknown as Record<ConnectionSettings["kind"], KindForm>;
