/**
 * Other transactions have changed or held the same for as long as one waits for them. Nothing was done; the same may succeed
 * when it is tried again. `cause` is the driver's error.
 */
export class ConflictError extends Error {
  override readonly name = "ConflictError";

  constructor(cause: unknown) {
    super("other transactions are changing the same; nothing was done, try again", { cause });
  }
}

/**
 * The database does not take what was written, because of its own constraints: a value that must be unique is taken, a
 * record is missing that is referred to, or others refer to one that is deleted. Nothing was done. `cause` is the driver's
 * error.
 */
export class ConstraintError extends Error {
  override readonly name = "ConstraintError";

  constructor(cause: unknown) {
    super("a constraint of the database does not allow it; nothing was done", { cause });
  }
}

/**
 * A copy of the database does not know yet what somebody may do: what it knows is older than it may be. Nothing was answered;
 * the same may succeed when it is tried again.
 */
export class ReplicaBehind extends Error {
  override readonly name = "ReplicaBehind";

  constructor(version: bigint | undefined) {
    super(`the copy that was asked is behind, at version ${version}; nothing was answered, try again`);
  }
}

/** A record is no longer as the person saw it: somebody else has changed it. Nothing was done. */
export class RecordChanged extends Error {
  override readonly name = "RecordChanged";
}
