import * as house from "@undercoat/core/sql/house";
import { LoadFailure } from "../../failure.ts";
import type { Session } from "../../postgres/session.ts";

/** The version of Undercoat's own schema in a warehouse; 0 where there is none. @throws LoadFailure for one that a later program made. */
export async function houseVersion(session: Session): Promise<number> {
  if ((await session.one(house.hasVersion)).known !== "t") return 0;
  const version = Number((await session.one(house.readVersion)).version);
  if (version > house.houseVersion)
    throw new LoadFailure({
      message: `${session.place.name} was used by a later version of Undercoat (its schema is ${version}, this one knows ${house.houseVersion})`,
      hint: "Upgrade this installation.",
    });
  return version;
}

/** Makes Undercoat's own schema in a warehouse, or brings it up to date; sessions that come at once do it one after another. */
export async function furnish(session: Session): Promise<void> {
  if ((await houseVersion(session)) === house.houseVersion) return;
  await session.query("BEGIN");
  await session.query(house.lockHouse);
  await session.script(house.createHouse);
  const version = await houseVersion(session);
  if (version < house.houseVersion) await session.script(house.furnish(version));
  await session.query("COMMIT");
}
