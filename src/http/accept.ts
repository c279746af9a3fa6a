/**
 * Whether a client takes a type of content, by its `Accept` header (RFC 9110, 12.5.1): the range that fits it most closely
 * decides, and none at all takes everything.
 */
export function accepts(header: string | null, type: string): boolean {
  if (header === null || header.trim() === "") return true;
  const [kind] = type.split("/");
  const ranges = header.split(",").map((part) => {
    const [range = "", ...parameters] = part.split(";").map((one) => one.trim().toLowerCase());
    const weight = parameters.map((one) => /^q=([\d.]+)$/.exec(one)?.[1]).find((one) => one !== undefined);
    return { range, weight: Number(weight ?? 1) };
  });
  for (const wanted of [type, `${kind}/*`, "*/*"]) {
    const found = ranges.find(({ range }) => range === wanted);
    if (found !== undefined) return found.weight > 0;
  }
  return false;
}
