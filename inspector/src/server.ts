import type { OpenedFile, ProjectState } from "./worker/protocol.js";

/** The file was changed by somebody else since it was read: it is as it was. */
export class FileChanged extends Error {}

async function call<R>(method: string, path: string, body?: unknown): Promise<R> {
  const response = await fetch(`api/${path}`, {
    method,
    ...(body === undefined ? {} : { headers: { "content-type": "application/json" }, body: JSON.stringify(body) }),
  });
  const answer = (await response.json()) as { title?: string };
  if (response.status === 409) throw new FileChanged(answer.title);
  if (!response.ok) throw new Error(answer.title ?? `the server said ${response.status}`);
  return answer as R;
}

export const readProject = (): Promise<ProjectState> => call("GET", "project");

/** The digests of the files, by name. */
export const readVersions = (): Promise<Readonly<Record<string, string>>> => call("GET", "versions");

/** Writes a file that was opened; `version` is the one that was seen. */
export const saveFile = (name: string, text: string, version: string): Promise<OpenedFile> =>
  call("PUT", "file", { name, text, version });
