import { requires, routes } from "../context.ts";
import { HttpProblem } from "../problem.ts";

/** Lets an hour of business pass at the demo's source. */
export const demo = routes()
  .use(requires("editor"))
  .post("/hour", async (c) => {
    const { passHour } = c.get("house");
    if (!passHour) throw new HttpProblem(404, "The demo does not run here");
    await passHour();
    return c.body(null, 204);
  });
