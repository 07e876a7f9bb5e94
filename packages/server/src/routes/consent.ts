import { LoadFailure } from "@undercoat/engine/failure";
import { takeConsent } from "../account/consent.ts";
import { asks, requires, routes, signedIn } from "../context.ts";
import { HttpProblem } from "../problem.ts";

/** Where an application sends somebody back to who has consented, or has not. */
export const consent = routes()
  .use(requires("editor"))
  .get("/", asks("state", "code", "error"), async (c) => {
    const { store, settings } = c.get("house");
    const back = (words: Record<string, string>) => c.redirect(`/connections?${new URLSearchParams(words)}`);
    try {
      const name = await takeConsent(store, settings.key, signedIn(c).id, c.req.valid("query"));
      return c.redirect(`/connections/${encodeURIComponent(name)}?consent=given`);
    } catch (error) {
      if (error instanceof LoadFailure) return back({ refused: error.failure.message });
      if (error instanceof HttpProblem) return back({ refused: error.message });
      throw error;
    }
  });
