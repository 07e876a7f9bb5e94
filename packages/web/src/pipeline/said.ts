/** An object without members that say nothing. */
export const said = <T extends object>(whole: T): T =>
  Object.fromEntries(Object.entries(whole).filter(([, value]) => value !== undefined && value !== "")) as T;
