<script setup lang="ts">
import type { ExplanationWords } from "portier/tooling";
import { computed, onMounted, ref, shallowRef, watch } from "vue";
import { fromAddress, toAddress } from "./address.js";
import { examples } from "./examples.js";
import { gains, type Played, play, problemsOf, seenTables, type Written, why } from "./play.js";

const first = examples[0] as Written;
const rules = ref(first.rules);
const data = ref<Record<string, string>>({ ...first.data });
const file = ref("rules");
const chosen = ref(0);
const person = ref("s-003");
const asked = ref<{ table: string; key: string; field: string; action: "view" | "edit" }>();
/** What the changes are compared with: the rules as they were opened, or kept. */
const kept = ref<Written>({ rules: first.rules, data: first.data });
const copied = ref(false);

const written = computed((): Written => ({ rules: rules.value, data: data.value }));
const state = computed(
  (): { played?: Played; problems: readonly { line?: number; message: string; hint?: string; file?: string }[] } => {
    try {
      return { played: play(written.value), problems: [] };
    } catch (error) {
      return { problems: problemsOf(error) };
    }
  },
);
/** The last that could be read: the tables stay while somebody types. */
const shown = shallowRef<Played>();
watch(
  state,
  ({ played }) => {
    if (played !== undefined) shown.value = played;
  },
  { immediate: true },
);

const viewer = computed(() => shown.value?.viewers.find(({ id }) => id === person.value) ?? shown.value?.viewers[0]);
const tables = computed(() => (shown.value && viewer.value ? seenTables(shown.value, viewer.value) : []));
const answer = computed((): ExplanationWords | undefined => {
  if (asked.value === undefined || shown.value === undefined || viewer.value === undefined) return undefined;
  try {
    return why(shown.value, viewer.value, asked.value);
  } catch {
    return undefined;
  }
});
/** The same records by the rules before; undefined where they do not fit those. */
const before = computed(() => {
  try {
    return play({ rules: kept.value.rules, data: data.value });
  } catch {
    return undefined;
  }
});
const changes = computed((): string[] => {
  if (state.value.played === undefined || kept.value.rules === rules.value) return [];
  return before.value === undefined
    ? ["The records do not fit the rules before."]
    : gains(before.value, state.value.played);
});

function open({ rules: text, data: records }: Written) {
  rules.value = text;
  data.value = { ...records };
  kept.value = { rules: text, data: records };
  file.value = "rules";
  asked.value = undefined;
}

onMounted(async () => {
  const given = await fromAddress(location.hash);
  if (given !== undefined) {
    chosen.value = -1;
    open(given);
  }
});

async function share() {
  history.replaceState(null, "", `#${await toAddress(written.value)}`);
  await navigator.clipboard?.writeText(location.href).catch(() => {});
  copied.value = true;
}
watch(written, () => {
  copied.value = false;
});

const text = computed({
  get: () => (file.value === "rules" ? rules.value : (data.value[file.value] ?? "")),
  set: (value) => {
    if (file.value === "rules") rules.value = value;
    else data.value = { ...data.value, [file.value]: value };
  },
});
const files = computed(() => [
  "rules",
  ...new Set([...Object.keys(data.value), ...(shown.value?.portier.schema.tables.keys() ?? [])]),
]);
const isAsked = (table: string, key: string, field: string) =>
  asked.value?.table === table && asked.value.key === key && asked.value.field === field;
</script>

<template>
  <div class="play">
    <div class="bar">
      <label>
        Begin with
        <select v-model.number="chosen" @change="examples[chosen] && open(examples[chosen])">
          <option v-if="chosen < 0" :value="-1">what you were sent</option>
          <option v-for="(example, index) in examples" :key="index" :value="index">{{ example.need }}</option>
        </select>
      </label>
      <button type="button" @click="share">{{ copied ? "The address holds it" : "Share by address" }}</button>
    </div>

    <div class="sides">
      <section aria-label="What is written">
        <div class="tabs" role="tablist">
          <button v-for="name in files" :key="name" type="button" role="tab" :aria-selected="file === name" @click="file = name">
            {{ name === "rules" ? "rules" : `${name}.csv` }}
          </button>
        </div>
        <textarea v-model="text" spellcheck="false" autocapitalize="off" :aria-label="file" />
        <ul v-if="state.problems.length > 0" class="problems" role="alert">
          <li v-for="(problem, index) in state.problems" :key="index">
            <b v-if="problem.line">{{ problem.file }}:{{ problem.line }}</b> {{ problem.message }} <i>{{ problem.hint }}</i>
          </li>
        </ul>
      </section>

      <section aria-label="What comes of it">
        <div class="bar">
          <label>
            As
            <select v-model="person">
              <option v-for="one in shown?.viewers" :key="one.id" :value="one.id">
                {{ one.name }}{{ one.roles.length > 0 ? ` (${one.roles.join(", ")})` : "" }}
              </option>
            </select>
          </label>
          <span class="legend"><span class="hidden">▒▒▒</span> hidden <span class="pen">✎</span> may be edited</span>
        </div>

        <div v-for="table in tables" :key="table.name" class="table">
          <h3>{{ table.name }} <small v-if="table.mayCreate">and may add to it</small></h3>
          <div class="scroll" tabindex="0" :aria-label="table.name" role="region">
            <table>
              <thead>
                <tr><th v-for="column in table.columns" :key="column">{{ column }}</th></tr>
              </thead>
              <tbody>
                <tr v-for="row in table.rows" :key="row.key">
                  <td v-if="row.cells === undefined" :colspan="table.columns.length">
                    <button type="button" @click="asked = { table: table.name, key: row.key, field: table.columns[0] ?? '', action: 'view' }">
                      <span class="hidden">does not exist for them</span>
                    </button>
                  </td>
                  <td v-for="cell in row.cells" :key="cell.field" :class="{ asked: isAsked(table.name, row.key, cell.field) }">
                    <button
                      type="button"
                      @click="asked = { table: table.name, key: row.key, field: cell.field, action: cell.seen ? 'edit' : 'view' }"
                    >
                      <span v-if="!cell.seen" class="hidden"><span aria-hidden="true">▒▒▒</span><span class="said">hidden</span></span>
                      <template v-else>
                        <span v-if="cell.editable" class="pen" role="img" aria-label="may be edited">✎</span>
                        {{ cell.value === null || cell.value === undefined ? "–" : cell.value }}
                      </template>
                    </button>
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
        </div>

        <div class="why" aria-live="polite">
          <template v-if="answer">
            <p><b>{{ answer.verdict }}</b> {{ answer.answer }}</p>
            <p v-if="answer.note">{{ answer.note }}</p>
            <template v-for="part in answer.sections" :key="part.title">
              <h4>{{ part.title }}</h4>
              <ul>
                <li v-for="(entry, index) in part.entries" :key="index">
                  {{ entry.text }}
                  <div v-for="(detail, at) in entry.details" :key="at"><small>{{ detail.label }}</small> {{ detail.text }}</div>
                </li>
              </ul>
            </template>
          </template>
          <p v-else>Choose a cell, and read why.</p>
        </div>

        <div class="changes">
          <h3>Who gains, who loses</h3>
          <ul v-if="changes.length > 0">
            <li v-for="line in changes" :key="line" :class="line.startsWith('+') ? 'gain' : 'loss'">{{ line }}</li>
          </ul>
          <p v-else>{{ kept.rules === rules ? "Change a rule, and read who gains and loses by it." : "Nobody, on these records." }}</p>
          <button v-if="kept.rules !== rules" type="button" @click="kept = written">Compare with this from now on</button>
        </div>
      </section>
    </div>
  </div>
</template>

<style scoped>
.play {
  font-size: 0.875rem;
}
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  margin-bottom: 8px;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 16px;
}
@media (min-width: 960px) {
  .sides {
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  }
}
select,
.bar > button,
.changes button,
.tabs button {
  padding: 4px 10px;
  border: 1px solid var(--vp-c-divider);
  border-radius: 6px;
  background: var(--vp-c-bg-soft);
  max-width: 100%;
}
select {
  appearance: auto;
}
.tabs {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin-bottom: 4px;
}
.tabs button[aria-selected="true"] {
  border-color: var(--vp-c-brand-1);
  color: var(--vp-c-brand-1);
  font-weight: 600;
}
textarea {
  width: 100%;
  height: 480px;
  padding: 12px;
  border: 1px solid var(--vp-c-divider);
  border-radius: 8px;
  background: var(--vp-code-block-bg);
  font-family: var(--vp-font-family-mono);
  font-size: 0.8125rem;
  line-height: 1.5;
  white-space: pre;
  overflow: auto;
}
.problems {
  margin: 8px 0 0;
  padding: 8px 12px;
  list-style: none;
  border-left: 3px solid var(--vp-c-danger-1);
  background: var(--vp-c-bg-soft);
}
.table h3,
.changes h3 {
  margin: 8px 0 4px;
  font-size: 1rem;
}
.table small,
.why small {
  color: var(--vp-c-text-2);
}
.scroll {
  overflow-x: auto;
}
table {
  display: table;
  margin: 0 0 8px;
  width: 100%;
  border-collapse: collapse;
}
th,
td {
  padding: 0;
  border: 1px solid var(--vp-c-divider);
  text-align: left;
  white-space: nowrap;
}
th {
  padding: 4px 8px;
  font-weight: 600;
}
td button {
  position: relative;
  width: 100%;
  padding: 4px 8px;
  text-align: left;
}
td button:hover,
td.asked {
  background: var(--vp-c-brand-soft);
}
.hidden {
  color: var(--vp-c-text-3);
}
.pen {
  color: var(--vp-c-brand-1);
}
.legend {
  color: var(--vp-c-text-2);
}
.said {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
.why,
.changes {
  margin-top: 12px;
  padding: 8px 12px;
  border-radius: 8px;
  background: var(--vp-c-bg-soft);
}
.why h4 {
  font-size: 0.875rem;
}
.why p,
.changes p,
.why h4,
.why ul,
.changes ul {
  margin: 4px 0;
}
.changes ul {
  padding: 0;
  list-style: none;
}
.gain {
  color: var(--vp-c-text-1);
  font-weight: 600;
}
.loss {
  color: var(--vp-c-text-2);
}
</style>
