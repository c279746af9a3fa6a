/**
 * The candidate that a person most likely meant, for hints such as `did you mean "title"?`.
 *
 * Distance is optimal string alignment (insert, delete, replace, swap neighbours); capitals and the separators
 * `-`, `_` and space are folded first, so that "Registrar" finds "registrar". Nothing is offered when more than a
 * third of the letters differ.
 */
export function nearest(name: string, candidates: Iterable<string>): string | undefined {
  const wanted = fold(name);
  let best: string | undefined;
  let least = Math.max(1, Math.floor(wanted.length / 3)) + 1;
  for (const candidate of candidates) {
    const distance = alignment(wanted, fold(candidate), least);
    if (distance < least) {
      least = distance;
      best = candidate;
    }
  }
  return best;
}

function fold(name: string): string {
  return name.slice(0, 80).toLowerCase().replace(/[-_ ]/g, "");
}

function alignment(a: string, b: string, limit: number): number {
  if (Math.abs(a.length - b.length) >= limit) return limit;
  let beforeLast: number[] = [];
  let last = Array.from({ length: b.length + 1 }, (_, column) => column);
  for (let i = 1; i <= a.length; i++) {
    const row = [i];
    for (let j = 1; j <= b.length; j++) {
      const same = a[i - 1] === b[j - 1];
      let cost = Math.min((last[j] ?? 0) + 1, (row[j - 1] ?? 0) + 1, (last[j - 1] ?? 0) + (same ? 0 : 1));
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1]) {
        cost = Math.min(cost, (beforeLast[j - 2] ?? 0) + 1);
      }
      row.push(cost);
    }
    beforeLast = last;
    last = row;
  }
  return last[b.length] ?? limit;
}
