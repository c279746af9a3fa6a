import type { Row, Source } from "../conditions/source.js";

/**
 * A source that answers the same when it is asked again, whatever is written meanwhile: what is worked out in two steps is
 * worked out of one state.
 */
export function rememberedSource(source: Source): Source {
  const kept = new Map<string, unknown>();
  const once = <A>(question: readonly unknown[], ask: () => A): A => {
    const id = JSON.stringify(question);
    if (!kept.has(id)) kept.set(id, ask());
    return kept.get(id) as A;
  };
  const { referring, all } = source;
  return {
    find: (table, key) => once(["find", table, key], () => source.find(table, key)),
    ...(referring && {
      referring: (table, field, key) =>
        once(["referring", table, field, key], (): readonly Row[] => [...referring.call(source, table, field, key)]),
    }),
    ...(all && { all: (table) => once(["all", table], (): readonly Row[] => [...all.call(source, table)]) }),
  };
}
