const changes = /(updated|modified|changed|last_?(edit|write|touch))/i;
const arrivals = /(created|inserted|added|recorded|logged|scanned|received|event|occurred)/i;

/** What a time column's name says it tells of: every change of its row, only the row's coming, or neither. */
export function namedFor(column: string): "changes" | "arrivals" | null {
  if (changes.test(column)) return "changes";
  return arrivals.test(column) ? "arrivals" : null;
}
