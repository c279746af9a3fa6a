import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from "react";
import { FileChanged, readProject, readVersions, saveFile } from "./server.js";
import type { Addition, Draft, OpenedFile, Overview, Proposal, Remark } from "./worker/protocol.js";
import { ask } from "./worker-client.js";

/** The document as it is written, what it comes to, and the files. */
export interface Project {
  readonly document: OpenedFile;
  readonly expectations: readonly OpenedFile[];
  /** What is written now; it may not be saved yet. */
  readonly text: string;
  readonly overview: Overview;
  readonly remarks: readonly Remark[];
  readonly compiles: boolean;
  /** The text that all of this is about: what was written since is looked at in an instant. */
  readonly judged: string;
  /** Counts what the worker has taken: answers of before are old. */
  readonly turn: number;
  readonly write: (text: string) => void;
  /** Puts a part more into what is written now. */
  readonly add: (addition: Addition) => Promise<void>;
  readonly save: () => Promise<void>;
  readonly addExpectation: (proposal: Proposal) => Promise<string>;
  /** Reads everything anew from the files; what is not saved is gone. */
  readonly reload: () => Promise<void>;
  /** A file that somebody else has changed. */
  readonly changedOutside: string | undefined;
}

const ProjectContext = createContext<Project | undefined>(undefined);

export function useProject(): Project {
  const project = useContext(ProjectContext);
  if (project === undefined) throw new Error("there is no project around this component");
  return project;
}

interface Opened {
  readonly document: OpenedFile;
  readonly expectations: readonly OpenedFile[];
}

const nothing: Overview = { tables: [], eyes: [], roles: [], groups: [], trouble: undefined };

/** So long after the last key a text is looked at. */
const pause = 250;

export function ProjectProvider({ children }: { children: ReactNode }): ReactNode {
  const [opened, setOpened] = useState<Opened>();
  const [text, setText] = useState("");
  const [known, setKnown] = useState<Pick<Project, "overview" | "remarks" | "compiles" | "judged" | "turn">>();
  const [failure, setFailure] = useState<string>();
  const [changedOutside, setChangedOutside] = useState<string>();

  const take = useCallback(
    (judged: string, draft: Draft) =>
      setKnown((before) => ({
        judged,
        overview: draft.overview ?? before?.overview ?? nothing,
        remarks: draft.remarks,
        compiles: draft.compiles,
        turn: (before?.turn ?? 0) + (draft.compiles ? 1 : 0),
      })),
    [],
  );
  const reload = useCallback(async () => {
    const project = await readProject();
    take(project.document.text, await ask("open", project));
    setOpened({ document: project.document, expectations: project.expectations });
    setText(project.document.text);
    setChangedOutside(undefined);
  }, [take]);
  useEffect(() => {
    reload().catch((error: Error) => setFailure(error.message));
  }, [reload]);

  // A text is looked at when its writer pauses.
  const [written, setWritten] = useState<string>();
  useEffect(() => {
    if (written === undefined) return undefined;
    let isCurrent = true;
    const timer = setTimeout(async () => {
      const draft = await ask("draft", written);
      if (isCurrent) take(written, draft);
    }, pause);
    return () => {
      isCurrent = false;
      clearTimeout(timer);
    };
  }, [written, take]);

  useEffect(() => {
    const look = async () => {
      const versions = await readVersions().catch(() => undefined);
      const files = opened === undefined ? [] : [opened.document, ...opened.expectations];
      setChangedOutside(files.find(({ name, version }) => versions !== undefined && versions[name] !== version)?.name);
    };
    window.addEventListener("focus", look);
    return () => window.removeEventListener("focus", look);
  }, [opened]);

  const project = useMemo<Project | undefined>(() => {
    if (opened === undefined || known === undefined) return undefined;
    const { document, expectations } = opened;
    const write = (next: string) => {
      setText(next);
      setWritten(next);
    };
    const orChanged = async (name: string, work: () => Promise<void>) => {
      try {
        await work();
      } catch (error) {
        if (error instanceof FileChanged) setChangedOutside(name);
        throw error;
      }
    };
    return {
      ...known,
      document,
      expectations,
      text,
      reload,
      changedOutside,
      write,
      add: async (addition) => {
        take(text, await ask("draft", text));
        write(await ask("add", addition));
      },
      save: () =>
        orChanged(document.name, async () => {
          const saved = await saveFile(document.name, text, document.version);
          await ask("saved");
          setOpened({ document: saved, expectations });
        }),
      addExpectation: async (proposal) => {
        const [file, ...others] = expectations;
        if (file === undefined) throw new Error("there is no file for expectations");
        await orChanged(file.name, async () => {
          const next = await ask("withExpectation", file.text, proposal);
          const saved = await saveFile(file.name, next, file.version);
          setOpened({ document, expectations: [saved, ...others] });
        });
        return file.name;
      },
    };
  }, [opened, known, text, reload, changedOutside, take]);
  if (failure !== undefined) return <p className="failure">The project could not be opened: {failure}</p>;
  if (project === undefined) return <p className="opening">…</p>;
  return <ProjectContext value={project}>{children}</ProjectContext>;
}
