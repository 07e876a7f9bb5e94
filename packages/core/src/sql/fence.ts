/**
 * What ends a subquery whose values are computed once for each of its rows, and for no row that it leaves out. Written as a
 * text, the zero is a constant from the start, so that PostgreSQL still lets several processes work on the subquery.
 */
export const fence = "OFFSET '0'";
