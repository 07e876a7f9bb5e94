/** A page's title in the browser: what it is about, before the product's name. */
export function Title({ of }: { of: string }) {
  return <title>{`${of} · Undercoat`}</title>;
}
