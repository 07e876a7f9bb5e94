import type { UseFormReturnType } from "@mantine/form";
import type { ConnectionView } from "@undercoat/core/api/api";
import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";
import type { ReactNode } from "react";

/** What a connection's form holds: what every kind has, and the fields of all kinds. */
export interface FormValues {
  name: string;
  kind: ConnectionSettings["kind"];
  password: string;
  warehouse: boolean;
  fields: Record<string, string>;
}

export interface FieldsProps {
  form: UseFormReturnType<FormValues>;
  connection: ConnectionView | null;
}

/** How a kind of connection is asked for. */
export interface KindForm<Settings extends ConnectionSettings = ConnectionSettings> {
  title: string;
  /** true where loads can write into it */
  warehouse: boolean;
  /** true where it signs in with a password */
  password: boolean;
  /** what its fields hold first */
  initial(settings: Partial<Settings>): Record<string, string>;
  /** what is wrong with a field; null where nothing is */
  wrong: Record<string, (value: string) => string | null>;
  settings(fields: Record<string, string>): Settings;
  Fields(props: FieldsProps): ReactNode;
}
