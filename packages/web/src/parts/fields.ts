import { ApiProblem } from "../api/client.ts";

/**
 * Puts what the server found wrong to the fields of a form.
 * @param under how many names stand before the field's in a problem's path
 */
export function tellFields(
  failed: unknown,
  form: { setFieldError: (field: string, words: string) => void },
  under = 0,
): void {
  if (!(failed instanceof ApiProblem)) return;
  for (const { path, message } of failed.problem.problems ?? []) form.setFieldError(String(path[under]), message);
}
