import { ask } from "./client.ts";

/** What a server tells while it works on something that was asked of it, as it comes. @throws ApiProblem where it refuses */
export async function* told(
  path: string,
  body: object,
  signal?: AbortSignal,
): AsyncGenerator<{ event: string; data: unknown }> {
  const response = await ask(path, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
    signal,
  });
  if (!response.body) return;
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let text = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    text += value;
    const messages = text.split("\n\n");
    text = messages.pop() ?? "";
    for (const message of messages)
      yield {
        event: /^event: (.*)$/m.exec(message)?.[1] ?? "message",
        data: JSON.parse(/^data: (.*)$/m.exec(message)?.[1] ?? "null"),
      };
  }
}
