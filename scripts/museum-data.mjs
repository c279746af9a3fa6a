// Makes the large tables of examples/museum/data: hand-written records first, then others from word lists and fixed
// seeds, always the same. Run with "npm run data"; with --print it writes to standard output instead.
import { readFileSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";

const museum = fileURLToPath(new URL("../examples/museum/", import.meta.url));
const objectCount = 400;
const loanCount = 60;

/** Mulberry32, a small generator of 32 bits of state (public domain). */
function generator(seed) {
  let state = seed;
  const next = () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4294967296;
  };
  const below = (bound) => Math.floor(next() * bound);
  return { below, chance: (share) => next() < share, pick: (list) => list[below(list.length)] };
}

const kinds = {
  ships: {
    code: "SH",
    keepers: ["s-002", "s-003", "s-014"],
    things: [
      "Half model",
      "Figurehead",
      "Ship's bell",
      "Rudder head",
      "Builder's plan",
      "Cutter model",
      "Oar",
      "Name board",
    ],
    names: [
      "Halcyon",
      "Third Tern",
      "Marrow",
      "Good Intent",
      "Calluna",
      "Petrel",
      "Wintergreen",
      "Two Sisters",
      "Osprey",
    ],
    materials: ["pine", "oak", "bronze", "painted lime wood", "paper", "ash"],
  },
  instruments: {
    code: "IN",
    keepers: ["s-011", "s-015", "s-009"],
    things: [
      "Sextant",
      "Octant",
      "Marine chronometer",
      "Barometer",
      "Azimuth compass",
      "Log line",
      "Telescope",
      "Station pointer",
    ],
    names: [
      "by Ruiz",
      "by Halloran",
      "No. 14",
      "No. 221",
      "of the pilot house",
      "of the survey",
      "by Brandvold",
      "No. 3",
    ],
    materials: ["brass", "brass and ivory", "mahogany", "steel", "silver", "glass"],
  },
  textiles: {
    code: "TX",
    keepers: ["s-012", "s-004", "s-016"],
    things: [
      "Ensign",
      "Signal flag",
      "Sail fragment",
      "Gansey",
      "Sampler",
      "Sea chest cover",
      "Oilskin",
      "Sailmaker's palm",
    ],
    names: [
      "of the Marrow",
      "with initials",
      "unfinished",
      "of the lifeboat crew",
      "from the north quay",
      "dated",
      "mended",
    ],
    materials: ["wool", "linen", "cotton", "silk", "oiled cotton", "leather"],
  },
};
const places = ["Brackwater", "Port Ansel", "Hollin Sound", "Vesper Bay", "Old Ferry", "Tarn Haven", null];
const donors = ["family of a pilot", "harbour office", "bequest", "ropewalk company", "found in the store", null, null];
const notes = ["sound", "worn edges", "old repair", "surface dirt", "flaking paint", "loose fitting", null];
const borrowers = ["Vesper Bay Maritime House", "Hollin Town Collection", "Museum of the Straits", "Ansel Polytechnic"];

const twoDigits = (number) => String(number).padStart(2, "0");
const date = (random, from, years) =>
  `${from + random.below(years)}-${twoDigits(1 + random.below(12))}-${twoDigits(1 + random.below(28))}`;

function makeObjects(first) {
  const random = generator(20270131);
  const objects = [...first];
  for (let number = first.length + 1; number <= objectCount; number++) {
    const department = random.pick(Object.keys(kinds));
    const kind = kinds[department];
    const title = `${random.pick(kind.things)} ${random.pick(kind.names)}`;
    const status = random.pick([
      "registered",
      "registered",
      "on_display",
      "on_display",
      "on_display",
      "on_loan",
      "withdrawn",
    ]);
    objects.push({
      accession: `BM-${kind.code}-${String(number).padStart(4, "0")}`,
      title,
      label:
        status === "on_display" || random.chance(0.4)
          ? `${title}. ${random.pick(["Given", "Bought", "Found"])} locally.`
          : null,
      department,
      keeper: random.chance(0.9) ? random.pick(kind.keepers) : null,
      status,
      material: random.chance(0.93) ? random.pick(kind.materials) : null,
      made_in: random.pick(places),
      acquired_on: random.chance(0.9) ? date(random, 1921, 104) : null,
      donor: random.pick(donors),
      shelf: random.chance(0.95)
        ? `${random.pick(["N", "S"])}${1 + random.below(6)}-${twoDigits(1 + random.below(40))}`
        : null,
      insured_value: random.chance(0.85) ? `${(1 + random.below(480)) * 50}.00` : null,
      condition_note: random.pick(notes),
    });
  }
  return objects;
}

function makeLoans(first, objects) {
  const random = generator(20270828);
  const loans = [...first];
  for (let number = first.length + 1; number <= loanCount; number++) {
    const starts = date(random, 2025, 3);
    loans.push({
      id: `l-${String(number).padStart(3, "0")}`,
      object: random.pick(objects).accession,
      borrower: random.pick(borrowers),
      requested_by: random.pick(["s-002", "s-003", "s-004", "s-005", "s-011", "s-012", "s-014", "s-015", "s-016"]),
      status: random.pick(["draft", "requested", "approved", "out", "returned", "refused"]),
      starts_on: starts,
      ends_on: `${Number(starts.slice(0, 4)) + 1}${starts.slice(4)}`,
      fee: random.chance(0.8) ? `${(1 + random.below(60)) * 25}.00` : null,
      courier: random.chance(0.6) ? random.pick(["own van", "Ferrant & Loe", "by sea", "borrower collects"]) : null,
    });
  }
  return loans;
}

const captions = ["Seen from the quay.", "Made by hand, used for a lifetime.", "Ask to hold the copy.", null];

/** Five objects in each exhibition, in an order of their own. */
function makeExhibits(exhibitions, objects) {
  const random = generator(20270212);
  return exhibitions.flatMap(({ id }) =>
    Array.from({ length: 5 }, (_, index) => ({
      id: `x-${id.slice(2)}${index + 1}`,
      exhibition: id,
      object: random.pick(objects).accession,
      caption: random.pick(captions),
      sequence: index + 1,
    })),
  );
}

const treatmentNotes = [
  "surface cleaned",
  "loose parts secured",
  "watched, nothing done",
  "old varnish thinned",
  "re-housed",
];

function makeTreatments(objects) {
  const random = generator(20270319);
  return Array.from({ length: 24 }, (_, index) => {
    const started = date(random, 2024, 3);
    return {
      id: `t-${String(index + 1).padStart(2, "0")}`,
      object: random.pick(objects).accession,
      conservator: random.pick(["s-006", "s-019", "s-020"]),
      started_on: started,
      finished_on: random.chance(0.7) ? `${Number(started.slice(0, 4)) + 1}${started.slice(4)}` : null,
      notes: random.pick(treatmentNotes),
      cost: random.chance(0.8) ? `${(1 + random.below(40)) * 15}.00` : null,
    };
  });
}

const read = (name) => JSON.parse(readFileSync(`${museum}${name}`, "utf8"));
const lines = (rows) => `[\n${rows.map((row) => `  ${JSON.stringify(row)}`).join(",\n")}\n]\n`;

const objects = makeObjects(read("hand-written/objects.json"));
const made = {
  objects: lines(objects),
  loans: lines(makeLoans(read("hand-written/loans.json"), objects)),
  exhibits: lines(makeExhibits(read("data/exhibitions.json"), objects)),
  treatments: lines(makeTreatments(objects)),
};
for (const [name, text] of Object.entries(made)) {
  if (process.argv.includes("--print")) process.stdout.write(text);
  else writeFileSync(`${museum}data/${name}.json`, text);
}
