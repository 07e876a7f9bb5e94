import { LoadFailure } from "@undercoat/engine/failure";
import { NotConsented, takeConsent } from "../account/consent.ts";
import { asks, requires, routes, signedIn } from "../context.ts";

/** Where an application sends somebody back to who has consented, or has not; what came of it stands on a page, in words of its own. */
export const consent = routes()
  .use(requires("editor"))
  .get("/", asks("state", "code", "error"), async (c) => {
    const { store, settings } = c.get("house");
    try {
      const name = await takeConsent(store, settings.key, signedIn(c).id, c.req.valid("query"));
      return c.redirect(`/connections/${encodeURIComponent(name)}`);
    } catch (error) {
      if (error instanceof NotConsented) return c.redirect(`/connections?consent=${error.why}`);
      if (error instanceof LoadFailure) return c.redirect("/connections?consent=failed");
      throw error;
    }
  });
