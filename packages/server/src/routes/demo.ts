import { requires, routes } from "../context.ts";
import { HttpProblem } from "../problem.ts";

/** The demo's business, and what its stand-ins for outside services have been given. */
export const demo = routes()
  .use(requires("viewer"))
  .get("/arrived", (c) => {
    const { standins } = c.get("house");
    if (!standins) throw new HttpProblem(404, "The demo does not run here");
    return c.json(standins());
  })
  /** Lets an hour of business pass at the source. */
  .post("/hour", requires("editor"), async (c) => {
    const { passHour } = c.get("house");
    if (!passHour) throw new HttpProblem(404, "The demo does not run here");
    await passHour();
    return c.body(null, 204);
  });
