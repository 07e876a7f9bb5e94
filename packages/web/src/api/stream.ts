import type { Event } from "@undercoat/core/api/api";

/** What a page hears: an event, that the server went away, or that it is there (again). */
export type Heard = { kind: "event"; event: Event } | { kind: "away" } | { kind: "there" };

const name = "undercoat events";
/** How long a lost stream is left before it is opened again, in milliseconds. */
const pause = 1500;

/** Opens the stream and tells what comes, until it is closed. */
function open(tell: (heard: Heard) => void): () => void {
  let stream: EventSource;
  let timer: number | undefined;
  const start = () => {
    stream = new EventSource("/api/events");
    stream.onmessage = (message) => tell({ kind: "event", event: JSON.parse(message.data) });
    stream.addEventListener("ready", () => tell({ kind: "there" }));
    stream.onerror = () => {
      tell({ kind: "away" });
      // A browser gives up on an answer that is no stream, such as a proxy's page.
      stream.close();
      timer = window.setTimeout(start, pause);
    };
  };
  start();
  return () => {
    window.clearTimeout(timer);
    stream.close();
  };
}

/**
 * One stream for all tabs of a browser, which has few connections to a server: the tab that holds the lock listens and
 * passes on what it hears. A tab that nobody sees lets go, so that without a visible one there is no stream.
 * @returns ends it
 */
export function listen(hear: (heard: Heard) => void): () => void {
  const channel = new BroadcastChannel(name);
  channel.onmessage = (message: MessageEvent<Heard>) => hear(message.data);
  const tell = (heard: Heard) => {
    hear(heard);
    channel.postMessage(heard);
  };
  let leave: (() => void) | undefined;
  const join = () => {
    if (leave) return;
    // Locks are for secure origins; elsewhere each visible tab listens for itself.
    if (!("locks" in navigator)) {
      leave = open(hear);
      return;
    }
    const asking = new AbortController();
    let close: () => void = () => undefined;
    navigator.locks
      .request(name, { signal: asking.signal }, () => {
        const closing = open(tell);
        return new Promise<void>((done) => {
          close = () => {
            closing();
            done();
          };
        });
      })
      .catch(() => undefined);
    leave = () => {
      asking.abort();
      close();
    };
  };
  const look = () => {
    if (document.visibilityState === "visible") {
      join();
      // What was told while nobody saw this tab is asked for.
      hear({ kind: "there" });
    } else {
      leave?.();
      leave = undefined;
    }
  };
  document.addEventListener("visibilitychange", look);
  if (document.visibilityState === "visible") join();
  return () => {
    document.removeEventListener("visibilitychange", look);
    leave?.();
    channel.close();
  };
}
