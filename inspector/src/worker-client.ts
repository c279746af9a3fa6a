import type { InspectorApi, ProjectState } from "./worker/protocol.js";
import type { Answered, Asked } from "./worker/worker.js";

interface Waiting {
  readonly resolve: (answer: never) => void;
  readonly reject: (error: Error) => void;
}

/** A worker that answers in the order in which it is asked. */
class InspectorWorker {
  readonly #worker = new Worker(new URL("./worker/worker.ts", import.meta.url), { type: "module" });
  readonly #waiting = new Map<number, Waiting>();
  #last = 0;

  constructor() {
    this.#worker.onmessage = ({ data }: MessageEvent<Answered>) => {
      const one = this.#waiting.get(data.id);
      this.#waiting.delete(data.id);
      if ("failure" in data) one?.reject(new Error(data.failure));
      else one?.resolve(data.answer as never);
    };
  }

  ask<K extends keyof InspectorApi>(name: K, given: Parameters<InspectorApi[K]>): Promise<ReturnType<InspectorApi[K]>> {
    const id = ++this.#last;
    return new Promise((resolve, reject) => {
      this.#waiting.set(id, { resolve, reject });
      this.#worker.postMessage({ id, name, given } satisfies Asked);
    });
  }
}

const quick = new InspectorWorker();

/** What takes a while has a worker of its own, made when it is first needed, so that it keeps nobody from scrolling. */
const slowQuestions: ReadonlySet<keyof InspectorApi> = new Set(["matrix", "differences", "test", "coverage"]);
let slow: InspectorWorker | undefined;

/** What the slow one must know before it is asked: what is saved, and what is written. */
interface Known {
  readonly project: ProjectState;
  readonly draft: string;
}
let known: Known | undefined;
let knownBySlow: Known | undefined;

/** Asks a worker; questions of one kind are answered in their order. */
export async function ask<K extends keyof InspectorApi>(
  name: K,
  ...given: Parameters<InspectorApi[K]>
): Promise<ReturnType<InspectorApi[K]>> {
  const [first] = given;
  if (name === "open") known = { project: first as ProjectState, draft: (first as ProjectState).document.text };
  if (known !== undefined && name === "draft") known = { ...known, draft: first as string };
  if (known !== undefined && name === "saved") {
    const { project, draft } = known;
    known = { draft, project: { ...project, document: { ...project.document, text: draft } } };
  }
  if (!slowQuestions.has(name)) return quick.ask(name, given);
  slow ??= new InspectorWorker();
  if (known !== undefined && known.project !== knownBySlow?.project) {
    slow.ask("open", [known.project]);
    knownBySlow = { project: known.project, draft: known.project.document.text };
  }
  if (known !== undefined && known.draft !== knownBySlow?.draft) slow.ask("draft", [known.draft]);
  knownBySlow = known;
  return slow.ask(name, given);
}
