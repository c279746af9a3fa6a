/** Bounds on documents. Crossing one is the problem `too-large`, never a slow or half-read document. */
export const limits = {
  tables: 5_000,
  fieldsOfATable: 1_000,
  roles: 2_000,
  groups: 5_000,
  rules: 100_000,
  /** Protections of the cells of one table, and ranges of one of them. */
  protections: 20_000,
  rangesOfProtection: 1_000,
  /** Single tests that a membership of somebody else comes to, with all groups in it written out. */
  membershipTests: 5_000,
  nameLength: 100,
  choices: 10_000,
  /** Characters of one condition. */
  conditionLength: 20_000,
  /** How deep parentheses and `not` may nest in one condition. */
  conditionDepth: 100,
  /** Digits of a decimal. */
  decimalDigits: 1_000,
  /** Steps of a path such as `object.keeper.department`. */
  pathSteps: 20,
  /** Problems listed before the rest is only counted. */
  problems: 200,
} as const;
