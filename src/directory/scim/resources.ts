/** A user or group as SCIM 2.0 (RFC 7643) writes it: attributes by name, extensions under their URN. */
export type Resource = Readonly<Record<string, unknown>>;

export const urns = {
  user: "urn:ietf:params:scim:schemas:core:2.0:User",
  enterprise: "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
  group: "urn:ietf:params:scim:schemas:core:2.0:Group",
  list: "urn:ietf:params:scim:api:messages:2.0:ListResponse",
  patch: "urn:ietf:params:scim:api:messages:2.0:PatchOp",
  error: "urn:ietf:params:scim:api:messages:2.0:Error",
  config: "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig",
  resourceType: "urn:ietf:params:scim:schemas:core:2.0:ResourceType",
  schema: "urn:ietf:params:scim:schemas:core:2.0:Schema",
  search: "urn:ietf:params:scim:api:messages:2.0:SearchRequest",
} as const;

/** The kinds of errors that RFC 7644 (3.12) names. */
export type ScimType =
  | "invalidFilter"
  | "uniqueness"
  | "mutability"
  | "invalidSyntax"
  | "invalidPath"
  | "noTarget"
  | "invalidValue";

/** What a call is answered with when it cannot be done. Nothing of it is done then. */
export class ScimError extends Error {
  readonly status: number;
  readonly scimType: ScimType | undefined;

  constructor(status: number, detail: string, scimType?: ScimType) {
    super(detail);
    this.status = status;
    this.scimType = scimType;
  }

  /** The body of the answer. */
  toResource(): Resource {
    return {
      schemas: [urns.error],
      status: String(this.status),
      ...(this.scimType === undefined ? {} : { scimType: this.scimType }),
      detail: this.message,
    };
  }
}

/** One step into a resource: an attribute, its name in any case, as RFC 7643 (2.1) has it. */
export function attributeOf(resource: unknown, name: string): unknown {
  if (typeof resource !== "object" || resource === null) return undefined;
  const key = keyIn(resource as Resource, name);
  return key === undefined ? undefined : (resource as Resource)[key];
}

/** The name under which a resource has an attribute. */
export function keyIn(resource: Resource, name: string): string | undefined {
  return Object.keys(resource).find((key) => key.toLowerCase() === name.toLowerCase());
}

/** Whether a value is an object with parts. */
export function isComplex(value: unknown): value is Resource {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}
