import { issuePass } from "../account/passes.ts";
import { type Settings, writePrivate } from "../settings.ts";
import { PassRow, UserRow } from "../store/models.ts";

/** Leaves a token for the command line in the data folder, made anew each time so that an old copy is worthless. */
export async function leaveToken(settings: Settings): Promise<void> {
  const administrator = await UserRow.findOne({ where: { role: "administrator", active: true }, order: ["id"] });
  if (!administrator) return;
  const name = "this machine's command line";
  await PassRow.destroy({ where: { kind: "token", name } });
  writePrivate(settings.data, "token", await issuePass(administrator.id, "token", name));
}
