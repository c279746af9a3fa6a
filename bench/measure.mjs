// How the benchmarks measure: CPU time of this process, both sides by turns, the median of the ratios and how they spread.

export function cpu(work) {
  const start = process.cpuUsage();
  work();
  const { user, system } = process.cpuUsage(start);
  return (user + system) * 1_000;
}

export function median(values) {
  const sorted = [...values].sort((a, b) => a - b);
  return sorted[Math.floor(sorted.length / 2)];
}

/**
 * Runs both by turns, warm: median and quartiles of the ratios, and the medians of both, in nanoseconds an item. Each
 * turn is repeated until it takes some milliseconds, as CPU time is counted in microseconds.
 */
export function compareRuns(items, ours, theirs, { rounds = 15 } = {}) {
  for (let i = 0; i < 4; i++) {
    ours();
    theirs();
  }
  const repeat = Math.max(1, Math.ceil(4_000_000 / Math.max(1_000, Math.min(cpu(ours), cpu(theirs)))));
  const turn = (work) => {
    const spent = cpu(() => {
      for (let i = 0; i < repeat; i++) work();
    });
    return spent / repeat / items;
  };
  const pairs = Array.from({ length: rounds }, () => [turn(ours), turn(theirs)]);
  const ratios = pairs.map(([a, b]) => a / b).sort((a, b) => a - b);
  return {
    ratio: median(ratios),
    from: ratios[Math.floor(rounds / 4)],
    to: ratios[Math.floor((rounds * 3) / 4)],
    ours: median(pairs.map(([a]) => a)),
    byHand: median(pairs.map(([, b]) => b)),
  };
}
