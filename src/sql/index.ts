export { createTables } from "./create-tables.js";
export type { Dialect } from "./dialect.js";
export type { Statement } from "./fragment.js";
export { mariadb } from "./mariadb.js";
export { type MaskedSelect, type MaskedSelectOptions, maskedSelect } from "./masked-select.js";
export { postgres, postgresTexts } from "./postgres.js";
export { type RowSecurity, type RowSecurityOptions, rowSecurity } from "./row-security/row-security.js";
export { sqlite } from "./sqlite.js";
export { type WhereOptions, where } from "./where.js";
