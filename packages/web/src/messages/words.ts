import type { Message, Occasion } from "@undercoat/core/message/message";

export const occasionWords: Record<Occasion, string> = {
  failed: "a load or proof failed",
  disagrees: "a proof disagrees",
  rejected: "rows are rejected",
  late: "it is late",
  drift: "the source's columns change",
  finished: "a run finished",
};

/** Of what a message tells, in few words. */
export function occasionsOf({ on, over, late }: Message): string {
  const short: Record<Occasion, string> = {
    failed: "failed",
    disagrees: "disagrees",
    rejected: over ? `more than ${over} rejected` : "rejected",
    late: late ? `not ${late.needs ?? "finished"} by ${late.by}` : "late",
    drift: "drift",
    finished: "finished",
  };
  return on.map((one) => short[one]).join(", ");
}

export const placeOf = (message: Message) => (message.to === "webhook" ? message.url : message.address);
