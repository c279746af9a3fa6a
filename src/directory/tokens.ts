import { createLocalJWKSet, createRemoteJWKSet, errors, type JSONWebKeySet, type JWTPayload, jwtVerify } from "jose";
import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { PortierError, portierError } from "../schema/problems.js";
import { timestampOf } from "../schema/types/timestamp.js";
import type { RoleClaim } from "../session/assigned-roles.js";
import type { AnyRules } from "../session/open-rules.js";
import type { Portier } from "../session/portier.js";
import { claimOf } from "./claim-of.js";

/** How tokens of one issuer are read. */
export interface TokenOptions {
  /** What `iss` must be. */
  readonly issuer: string;
  /** What `aud` must be, or hold. */
  readonly audience: string;
  /** The keys of the issuer: the address of its JSON Web Key Set, or the set itself. */
  readonly keys: URL | JSONWebKeySet;
  /** The algorithms of signatures that count. Default: `RS256`, `PS256`, `ES256`, `EdDSA`. */
  readonly algorithms?: readonly string[];
  /**
   * Where a token says who it is and what they hold. Names lead into objects: `realm.roles`, also where a name has dots of its
   * own: `https://museum.example/claims.roles`. Where that could be read in two ways, give the steps as a list.
   */
  readonly claims?: {
    /** The person's key. Default: `sub`. */
    readonly person?: ClaimPath;
    /** Names of roles, a text or a list; of scoped ones as `editor of e-2`. Default: none are read. */
    readonly roles?: ClaimPath;
    /** Names of groups as the issuer calls them; those count that {@link TokenOptions.groups} knows. Default: none are read. */
    readonly groups?: ClaimPath;
  };
  /**
   * Roles of the issuer that mean nothing here: these names, or all that the document does not have (`unknown`). Default: none;
   * a token that names a role which there is not is refused.
   */
  readonly leaveOut?: readonly string[] | "unknown";
  /** What the issuer's groups mean here: the name of a role (`keeper`, `editor of e-2`) or of a group of the document. */
  readonly groups?: Readonly<Record<string, string>>;
  /** How far clocks may differ, in seconds. Default: 0. */
  readonly clockTolerance?: number;
}

/** The place of a claim: names with dots between, or a list of names. */
export type ClaimPath = string | readonly string[];

/** Who a token says is asking, for `portier.session({ ...signedIn, source })`. */
export interface SignedIn {
  /** The key of the person in the people table. */
  readonly person: string;
  /** The roles that the token brings; hand them to the session as `claims`. */
  readonly claims: readonly RoleClaim[];
  /** When the token ends, a canonical instant: no session should outlive it. */
  readonly expires: string;
}

/** Reads tokens of one issuer. */
export interface TokenReader {
  /**
   * Verifies a token and reads who it is about.
   *
   * @throws PortierError (`bad-token`) for one that is not signed by the issuer, is for somebody else, is over, or names
   * nobody; (`unknown-role`) for one that names a role that there is not. No session is opened then.
   */
  read(token: string, options?: { readonly now?: Date }): Promise<SignedIn>;
}

const defaultAlgorithms = ["RS256", "PS256", "ES256", "EdDSA"];

/**
 * Reads signed tokens (JWT, RFC 7519) such as an OpenID Connect provider issues.
 *
 * @throws PortierError (`unknown-role`) for a group that is to mean a role or group that the document does not have.
 *
 * @example
 * const tokens = tokenReader(portier, {
 *   issuer: "https://sign-in.brackwater.example", audience: "museum",
 *   keys: new URL("https://sign-in.brackwater.example/keys"),
 *   claims: { groups: "groups" }, groups: { "Keepers of ships": "keeper" },
 * });
 * const session = portier.session({ ...(await tokens.read(token)), source });
 */
export function tokenReader<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  options: TokenOptions,
): TokenReader {
  const { issuer, audience, keys, claims = {}, groups = {}, clockTolerance = 0 } = options;
  const meanings = new Map(Object.entries(groups).map(([name, meaning]) => [name, claimOf(portier, meaning)]));
  const keySet = keys instanceof URL ? createRemoteJWKSet(keys) : createLocalJWKSet(keys);
  return {
    async read(token, { now } = {}) {
      let payload: JWTPayload;
      try {
        ({ payload } = await jwtVerify(token, keySet, {
          issuer,
          audience,
          algorithms: [...(options.algorithms ?? defaultAlgorithms)],
          requiredClaims: ["exp"],
          clockTolerance,
          ...(now === undefined ? {} : { currentDate: now }),
        }));
      } catch (error) {
        throw badToken(error instanceof errors.JOSEError ? error.message : String(error));
      }
      const { person: personName = "sub" } = claims;
      const person = valueAt(payload, personName);
      if (typeof person !== "string" || person === "") throw badToken(`"${sayPath(personName)}" names nobody`);
      const roles = namesAt(payload, claims.roles).flatMap((name) => roleNamed(portier, name, options.leaveOut));
      const ignore = namesAt(payload, claims.groups).flatMap((name) => {
        const claim = meanings.get(name);
        return claim === undefined ? [] : [{ ...claim, source: `the group "${name}" of the token` }];
      });
      return {
        person,
        claims: [...roles.map((claim) => ({ ...claim, source: "the token" })), ...ignore],
        expires: timestampOf(new Date((payload.exp as number) * 1_000)) ?? "",
      };
    },
  };
}

function badToken(why: string): PortierError {
  return portierError("bad-token", { why });
}

/** The role that a name means; none for one that is left out. */
function roleNamed(portier: AnyRules, name: string, leaveOut: TokenOptions["leaveOut"]): readonly RoleClaim[] {
  if (leaveOut !== undefined && leaveOut !== "unknown" && leaveOut.includes(name)) return [];
  try {
    return [claimOf(portier, name)];
  } catch (error) {
    if (leaveOut === "unknown" && error instanceof PortierError && error.code === "unknown-role") return [];
    throw error;
  }
}

/** What a path leads to; of names with dots in them, the longest that are there come first. */
function valueAt(value: unknown, path: ClaimPath): unknown {
  if (typeof value !== "object" || value === null) return undefined;
  const own = (name: string) => (Object.hasOwn(value, name) ? (value as Record<string, unknown>)[name] : undefined);
  if (typeof path !== "string") {
    const [first, ...rest] = path;
    if (first === undefined) return undefined;
    return rest.length === 0 ? own(first) : valueAt(own(first), rest);
  }
  const whole = own(path);
  if (whole !== undefined) return whole;
  for (let dot = path.lastIndexOf("."); dot > 0; dot = path.lastIndexOf(".", dot - 1)) {
    const found = valueAt(own(path.slice(0, dot)), path.slice(dot + 1));
    if (found !== undefined) return found;
  }
  return undefined;
}

/** A text or a list of texts. What is neither is not a list of names, and an error: never silently nothing. */
function namesAt(payload: JWTPayload, path: ClaimPath | undefined): readonly string[] {
  if (path === undefined) return [];
  const value = valueAt(payload, path);
  if (isReferredTo(payload, path)) {
    const why = `"${sayPath(path)}" is only referred to: the issuer leaves it out of tokens that would be too large`;
    throw badToken(`${why}; have it send fewer, or those alone that mean something here`);
  }
  if (value === undefined || value === null) return [];
  const names = Array.isArray(value) ? value : [value];
  if (names.every((name) => typeof name === "string")) return names as string[];
  throw badToken(`"${sayPath(path)}" holds something else than names`);
}

/**
 * Whether a claim is somewhere else (OpenID Connect Core 1.0, 5.6.2: distributed claims), or the token says that there would
 * be some.
 */
function isReferredTo(payload: JWTPayload, path: ClaimPath): boolean {
  const text = typeof path === "string" ? path : path.join(".");
  const names = payload["_claim_names"];
  const isNamed = (name: string) => text === name || text.startsWith(`${name}.`);
  if (typeof names === "object" && names !== null && Object.keys(names).some(isNamed)) return true;
  return payload[`has${text}`] === true && valueAt(payload, path) === undefined;
}

function sayPath(path: ClaimPath): string {
  return typeof path === "string" ? path : path.join(" > ");
}
