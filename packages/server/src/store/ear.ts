import pg from "pg";

/** How long a lost connection is left before it is made again, in milliseconds: twice as long after each failure. */
const firstPause = 250;
const longestPause = 15_000;

/**
 * Listens to some channels of a database over one connection until the returned function is called. A lost connection is
 * made again, one at a time.
 * @param back told when it was made again: something may have been said meanwhile
 * @throws Error where the first connection can't be made
 */
export async function listen(
  url: string,
  channels: Record<string, (payload: string) => void>,
  back: () => void = () => undefined,
): Promise<() => Promise<void>> {
  let ended = false;
  let client: pg.Client | undefined;
  let wake: () => void = () => undefined;

  /** @returns `gone`, which settles when the connection does */
  const connect = async (): Promise<{ gone: Promise<void> }> => {
    const fresh = new pg.Client({ connectionString: url, application_name: "undercoat ear", keepAlive: true });
    const gone = new Promise<void>((done) => {
      fresh.on("error", () => done());
      fresh.on("end", () => done());
    });
    fresh.on("notification", ({ channel, payload = "" }) => channels[channel]?.(payload));
    try {
      await fresh.connect();
      for (const channel of Object.keys(channels)) await fresh.query(`LISTEN ${channel}`);
    } catch (error) {
      await fresh.end().catch(() => undefined);
      throw error;
    }
    client = fresh;
    return { gone };
  };

  const keep = async (first: Promise<void>): Promise<void> => {
    await first;
    let pause = firstPause;
    while (!ended) {
      await client?.end().catch(() => undefined);
      await new Promise<void>((done) => {
        const timer = setTimeout(done, pause);
        wake = () => {
          clearTimeout(timer);
          done();
        };
      });
      if (ended) return;
      pause = Math.min(pause * 2, longestPause);
      try {
        const { gone } = await connect();
        pause = firstPause;
        back();
        await gone;
      } catch {
        // Tried again after the pause.
      }
    }
  };
  const { gone } = await connect();
  const kept = keep(gone);
  return async () => {
    ended = true;
    wake();
    await client?.end().catch(() => undefined);
    await kept;
  };
}
