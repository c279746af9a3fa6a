import type { FieldTypeName } from "../schema/types/field-type.js";

/**
 * What end users read of a refused change where no rule has a note for it: replace them for another language with `messages`
 * of a session. Messages for developers ({@link PortierError}) are apart from these.
 */
export interface UserMessages {
  /** A whole record may not be created, deleted, or be acted on so. */
  readonly actionRefused: (action: string) => string;
  /** A field may not be set; `label` is what people call it. */
  readonly fieldRefused: (label: string) => string;
  /** A value of another type was entered. */
  readonly wrongValue: (type: FieldTypeName) => string;
  /** A required field was left empty. */
  readonly valueMissing: string;
  /** A text holds a NUL character, or half of a surrogate pair. */
  readonly textNotStorable: string;
  /** The field is not there, or the person may not know of it. */
  readonly noSuchField: string;
  /** A reference leads to no record, or to one that the person may not know of. */
  readonly noSuchRecord: string;
  /** Another record has the key: it may be a hidden one, so say no more than that. */
  readonly keyTaken: string;
  /** An earlier line of an import has the key. */
  readonly keyTakenByLine: string;
}

const prompts: Readonly<Record<FieldTypeName, string>> = {
  text: "Enter a text.",
  integer: "Enter a whole number.",
  decimal: "Enter a number.",
  boolean: "Choose yes or no.",
  date: "Enter a date.",
  timestamp: "Enter a date and a time.",
  choice: "Choose one of the values.",
  reference: "Choose a record.",
  list: "Enter a list of values.",
  json: "Enter a valid value.",
};

export const englishMessages: UserMessages = {
  actionRefused: (action) => `You may not ${action} this.`,
  fieldRefused: (label) => `You may not set "${label}".`,
  wrongValue: (type) => prompts[type],
  valueMissing: "Enter a value.",
  textNotStorable: "This contains a character that cannot be stored.",
  noSuchField: "There is no such field.",
  noSuchRecord: "There is no such record.",
  keyTaken: "This key cannot be used.",
  keyTakenByLine: "An earlier line has the same key.",
};

export function messagesOf(replaced: Partial<UserMessages> | undefined): UserMessages {
  return replaced === undefined ? englishMessages : { ...englishMessages, ...replaced };
}
