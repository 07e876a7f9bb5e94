/** Something in a load's definition that can't work, and where. */
export class PlanError extends Error {
  constructor(
    message: string,
    readonly path: string[] = [],
    /** the offending character of an expression, from 0 */
    readonly position: number | null = null,
  ) {
    super(message);
  }
}
