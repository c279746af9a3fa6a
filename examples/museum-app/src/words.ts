/** A name of the schema as it is read: `made_in` as "made in". */
export function words(name: string): string {
  return name.replaceAll("_", " ");
}
