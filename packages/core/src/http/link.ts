/** Links of a header (RFC 8288, section 3): each target by its relation, the first where several have the same. */
export function linksOf(header: string): Map<string, string> {
  const links = new Map<string, string>();
  const link = /<([^>]*)>((?:\s*;\s*[\w!#$&+.^`|~*'-]+(?:\s*=\s*(?:"(?:[^"\\]|\\.)*"|[^\s;,"]+))?)*)\s*(?:,|$)/gy;
  for (let at = 0; at < header.length; at = link.lastIndex) {
    link.lastIndex = at + (/^[\s,]*/.exec(header.slice(at))?.[0].length ?? 0);
    const found = link.exec(header);
    if (!found) break;
    const [, target = "", parameters = ""] = found;
    const rel = /;\s*rel\s*=\s*(?:"([^"]*)"|([^\s;,]+))/i.exec(parameters);
    for (const name of (rel?.[1] ?? rel?.[2] ?? "").toLowerCase().split(/\s+/).filter(Boolean))
      if (!links.has(name)) links.set(name, target);
  }
  return links;
}
