"use client";

import { createElement, type ReactNode, useId, useMemo } from "react";
import type { Form, FormField } from "../session/form.js";
import type { Reach } from "../session/reach.js";
import { usePortier } from "./react-session.js";

export { type Change, type Draft, type SendChange, useChange, useDraft } from "./react-change.js";
export { PortierProvider, type PortierProviderProps, usePortier } from "./react-session.js";

/** What may be asked for a record that may still be on its way. */
export type MayQuestion = readonly [record: object | undefined, field?: string];

/**
 * May the person do it: on this record, on this field of it? With two arguments: on any record at all. A record that is
 * undefined, as while it is fetched, is one on which nothing is permitted.
 *
 * @example
 * const mayDelete = useMay("delete", "objects", object);
 * const mayCreate = useMay("create", "objects");
 */
export function useMay(action: string, table: string, ...asked: MayQuestion | readonly []): boolean {
  const [record, field] = asked;
  return usePermitted(action, table, asked.length > 0, record, field);
}

/** The question of {@link useMay} and {@link May}: about a record that may still be on its way, or about any. */
function usePermitted(action: string, table: string, isOfRecord: boolean, record?: object, field?: string): boolean {
  const session = usePortier();
  return useMemo(() => {
    if (!isOfRecord) return session.reach(action, table, field) !== "none";
    return record !== undefined && session.may(action, table, record, field);
  }, [session, action, table, isOfRecord, record, field]);
}

/** On how many records the person may do it, or set a field: `all`, `own`, `some` or `none`. */
export function useReach(action: string, table: string, field?: string): Reach {
  const session = usePortier();
  return useMemo(() => session.reach(action, table, field), [session, action, table, field]);
}

/**
 * What a page needs to show and change a stored record, or with one argument to make one; undefined for a record that is not
 * known, and for one that is undefined, as while it is fetched.
 */
export function useAccessForm(
  table: string,
  ...asked: readonly [record: object | undefined] | readonly []
): Form | undefined {
  const session = usePortier();
  const isNew = asked.length === 0;
  const [record] = asked;
  return useMemo(() => {
    if (isNew) return session.form(table);
    return record === undefined ? undefined : session.form(table, record);
  }, [session, table, isNew, record]);
}

/** What an input is given to stand for a field: spread it on an `input`, `select` or `textarea`, beside a form library's own. */
export interface FieldControl {
  readonly id: string;
  readonly name: string;
  /** Seen and not to be changed. */
  readonly readOnly: boolean;
  /** What cannot be read-only in HTML, a checkbox or a `select`, is disabled instead. */
  readonly disabled: boolean;
  /** Whether it must be filled in. Not for a checkbox: there it would mean that it must be ticked. */
  readonly required: boolean;
  /** `checkbox` for yes and no. */
  readonly type?: "checkbox";
  readonly "aria-describedby"?: string;
}

/** A field of a form as a person stands to it. */
export interface AccessField extends FormField {
  /** What an input takes; see {@link FieldControl}. */
  readonly control: FieldControl;
  /** The id of the element that is to show the note, where there is one. */
  readonly noteId: string | undefined;
}

/** Types whose values are picked rather than written. */
const pickedTypes: readonly string[] = ["boolean", "choice", "reference", "list"];

/** One field of a form; undefined where the record or the field is not known, or is neither seen nor to be set. */
export function useAccessField(form: Form | undefined, name: string): AccessField | undefined {
  const id = useId();
  return useMemo(() => {
    const field = form?.fields.find((one) => one.name === name);
    if (field === undefined || (field.state === "hidden" && field.blind !== true)) return undefined;
    const noteId = field.note === undefined && field.confirm === undefined ? undefined : `${id}note`;
    const readOnly = field.state === "read-only";
    const isBoolean = field.type === "boolean";
    const control: FieldControl = {
      id,
      name,
      readOnly,
      disabled: readOnly && pickedTypes.includes(field.type),
      required: field.required && !isBoolean,
      ...(isBoolean ? { type: "checkbox" } : {}),
      ...(noteId === undefined ? {} : { "aria-describedby": noteId }),
    };
    return { ...field, control, noteId };
  }, [form, name, id]);
}

/**
 * The values that the person may put into a field of a record, or with two arguments of a new one; undefined for a field that
 * takes any. A record that is undefined, as while it is fetched, takes none.
 */
export function useChoices(
  table: string,
  field: string,
  ...asked: readonly [record: object | undefined] | readonly []
): readonly (string | number | boolean)[] | undefined {
  const session = usePortier();
  const isNew = asked.length === 0;
  const [record] = asked;
  return useMemo(() => {
    if (isNew) return session.choices(table, field);
    return record === undefined ? [] : session.choices(table, field, record);
  }, [session, table, field, isNew, record]);
}

/** The screens that the person is shown, and where they land. */
export function useScreens(): { readonly screens: readonly string[]; readonly home: string | undefined } {
  const session = usePortier();
  return useMemo(() => ({ screens: session.screens(), home: session.home() }), [session]);
}

/** What is shown where something is permitted. */
export interface MayProps {
  /** A built-in action, or a custom one of the table. */
  readonly action: string;
  /** The name of a table. */
  readonly table: string;
  /** The record in question. Left out: whether it is permitted on any. */
  readonly record?: object | undefined;
  /** The field in question. Default: whether there is any. */
  readonly field?: string;
  /** What stands there for whoever may not. Default: nothing. */
  readonly otherwise?: ReactNode;
  /** What is shown to whoever may. */
  readonly children?: ReactNode;
}

/**
 * Shows its children to whom it is permitted. With a `record` that is undefined, as while it is fetched, to nobody; without the
 * property, to whom it is permitted on any record.
 */
export function May(props: MayProps): ReactNode {
  const { action, table, record, field, otherwise = null, children } = props;
  const isPermitted = usePermitted(action, table, "record" in props, record, field);
  return isPermitted ? children : otherwise;
}

/** Shows its children to whom the screen is shown. */
export function OnScreen({
  name,
  otherwise = null,
  children,
}: {
  readonly name: string;
  readonly otherwise?: ReactNode;
  readonly children?: ReactNode;
}): ReactNode {
  return useScreens().screens.includes(name) ? children : otherwise;
}

/** A form, as {@link AccessFields} shows it. */
export interface AccessFieldsProps {
  /** Undefined, as while it is fetched: nothing is drawn. */
  readonly form: Form | undefined;
  /** Which fields, in this order. Default: all of the table, in its order. */
  readonly names?: readonly string[];
  /** Draws one field; one that is hidden is not drawn. */
  readonly children: (field: AccessField) => ReactNode;
}

/** Draws the fields of a form that the person sees or may set, one after the other. */
export function AccessFields({ form, names, children }: AccessFieldsProps): ReactNode {
  const wanted = names ?? form?.fields.map(({ name }) => name) ?? [];
  return wanted.map((name) => createElement(OneField, { key: name, form, name, draw: children }));
}

interface OneFieldProps {
  readonly form: Form | undefined;
  readonly name: string;
  readonly draw: (field: AccessField) => ReactNode;
}

function OneField({ form, name, draw }: OneFieldProps): ReactNode {
  const field = useAccessField(form, name);
  return field === undefined ? null : draw(field);
}
