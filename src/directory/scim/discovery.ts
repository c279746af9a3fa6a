import { isSameAttribute } from "./attribute.js";
import { isExact } from "./filter.js";
import { isManager, type Mapping } from "./mapping.js";
import { type Resource, urns } from "./resources.js";

/** What a service says of itself (RFC 7643, 5 to 7). */
export interface Described {
  readonly mappings: readonly Mapping[];
  /** The attribute that is a person's key. */
  readonly key: Mapping["path"];
  readonly page: number;
}

/** The configuration of the service. */
export function serviceConfig({ page }: Described): Resource {
  const no = { supported: false };
  return {
    schemas: [urns.config],
    patch: { supported: true },
    bulk: { ...no, maxOperations: 0, maxPayloadSize: 0 },
    filter: { supported: true, maxResults: page },
    changePassword: no,
    sort: no,
    etag: no,
    authenticationSchemes: [
      { type: "oauthbearertoken", name: "Bearer token", description: "A secret that was agreed on." },
    ],
    meta: { resourceType: "ServiceProviderConfig" },
  };
}

export function resourceTypes({ mappings }: Described): readonly Resource[] {
  const extensions = extensionsOf(mappings).map((schema) => ({ schema, required: false }));
  return (["User", "Group"] as const).map((name) => ({
    schemas: [urns.resourceType],
    id: name,
    name,
    endpoint: `/${name}s`,
    schema: name === "User" ? urns.user : urns.group,
    ...(name === "User" && extensions.length > 0 ? { schemaExtensions: extensions } : {}),
    meta: { resourceType: "ResourceType" },
  }));
}

/** The attributes that are kept, and no others: what is not here is not taken. */
export function schemas({ mappings, key }: Described): readonly Resource[] {
  const own = { name: key.name, ...attribute("string"), required: true, uniqueness: "server" };
  const userName =
    key.name.toLowerCase() === "username"
      ? []
      : [{ name: "userName", ...attribute("string"), required: true, uniqueness: "server" }];
  const core = attributesOf(mappings, undefined).filter(({ name }) => name !== "userName" && name !== key.name);
  const groups = {
    name: "groups",
    ...attribute("complex", { multiValued: true, mutability: "readOnly" }),
    subAttributes: ["value", "display", "type"].map((name) => ({
      name,
      ...attribute("string", { mutability: "readOnly" }),
    })),
  };
  return [
    schema(urns.user, "User", [own, ...userName, ...core, groups]),
    schema(urns.group, "Group", [
      { name: "displayName", ...attribute("string"), required: true, mutability: "immutable", uniqueness: "server" },
      {
        name: "members",
        ...attribute("complex", { multiValued: true }),
        subAttributes: ["value", "type"].map((name) => ({
          name,
          ...attribute("string", { mutability: "immutable", caseExact: name === "value" }),
        })),
      },
    ]),
    ...extensionsOf(mappings).map((urn) =>
      schema(urn, urn === urns.enterprise ? "EnterpriseUser" : urn, attributesOf(mappings, urn)),
    ),
  ];
}

function extensionsOf(mappings: readonly Mapping[]): readonly string[] {
  return [...new Set(mappings.flatMap(({ path }) => path.extension ?? []))];
}

function schema(id: string, name: string, attributes: readonly Resource[]): Resource {
  return { schemas: [urns.schema], id, name, attributes, meta: { resourceType: "Schema" } };
}

function attributesOf(
  mappings: readonly Mapping[],
  extension: string | undefined,
): readonly (Resource & { readonly name: string })[] {
  const here = mappings.filter(({ path }) => path.extension === extension);
  const first = here.filter((one, index) => here.findIndex(({ path }) => isSameAttribute(path, one.path)) === index);
  return first.map(({ path, isMulti, field }) => {
    const same = here.filter((one) => isSameAttribute(one.path, path));
    const isPlain = !isMulti && path.part === undefined && !isManager(path);
    const isRequired = same.some((one) => !one.field.optional && one.field.default === null);
    if (isPlain) return { name: path.name, ...typed(field, path), required: isRequired };
    const parts = new Map(same.map((one) => [one.path.part ?? "value", one]));
    const defined = same.some((one) => one.path.filter !== undefined) ? ["type", "primary"] : [];
    return {
      name: path.name,
      ...attribute("complex", { multiValued: isMulti }),
      required: isRequired,
      subAttributes: [
        ...[...parts].map(([name, one]) => ({ name, ...typed(one.field, one.path) })),
        ...defined
          .filter((name) => !parts.has(name))
          .map((name) => ({ name, ...attribute(name === "primary" ? "boolean" : "string") })),
      ],
    };
  });
}

function typed(field: Mapping["field"], path: Mapping["path"]): Resource {
  const type = field.type.element ?? field.type;
  const types: Readonly<Record<string, string>> = { boolean: "boolean", integer: "integer", timestamp: "dateTime" };
  const choices = type.choices === undefined ? {} : { canonicalValues: type.choices };
  return { ...attribute(types[type.base] ?? "string", { caseExact: isExact(path) }), ...choices };
}

function attribute(type: string, more: Resource = {}): Resource {
  return {
    type,
    multiValued: false,
    required: false,
    ...(type === "string" ? { caseExact: false } : {}),
    mutability: "readWrite",
    returned: "default",
    uniqueness: "none",
    ...more,
  };
}
