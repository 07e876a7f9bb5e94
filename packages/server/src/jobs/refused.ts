/** A request that can't be met, with what is wrong. */
export class RunRefused extends Error {}
