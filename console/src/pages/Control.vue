<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import {
  api,
  ask,
  keepPart,
  removePart,
  sentence,
  type Group,
  type GroupConfig,
  type Preset,
  type PresetConfig,
  type Rule,
  type RuleConfig,
  type SettingConfig,
  type Upcoming,
} from '../api'
import ActionFields from '../components/deciding/ActionFields.vue'
import AutomationCard from '../components/deciding/AutomationCard.vue'
import FormulaBox from '../components/deciding/FormulaBox.vue'
import PartsCard from '../components/deciding/PartsCard.vue'
import SpanField from '../components/deciding/SpanField.vue'
import WeekView from '../components/deciding/WeekView.vue'
import Stepper from '../components/Stepper.vue'
import { since } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const route = useRoute()
const next = ref<Upcoming[] | null>(null)
const rules = ref<Rule[]>([])
const groups = ref<Group[]>([])
const failed = ref('')
const want = computed(() => route.hash.slice(1))
async function load() {
  try {
    const [n, r, g] = await Promise.all([ask(api.GET('/next')), ask(api.GET('/rules')), ask(api.GET('/groups'))])
    next.value = n
    rules.value = r.items
    groups.value = g.items
    failed.value = ''
  } catch (e) {
    failed.value = sentence(e)
  }
}
useIntervalFn(load, 30_000)
onMounted(async () => {
  await load()
  if (want.value) document.getElementById(want.value)?.scrollIntoView()
})
const reload = async () => {
  await Promise.all([load(), hub.reload()])
}

const places = computed(() =>
  hub.places
    .map((place) => ({
      place,
      controls: Object.values(hub.controls)
        .filter((c) => c.state.place === place.id && !hub.devices[c.config.device]?.config.state)
        .sort((a, b) => a.config.id.localeCompare(b.config.id)),
    }))
    .filter((x) => x.controls.length),
)
const settings = computed(() => Object.values(hub.settings))
const owners = computed(() =>
  [...hub.places.map((p) => p.id), ...Object.keys(hub.devices), 'hub'].filter((x, i, all) => all.indexOf(x) === i),
)
const owner = ref('')
const saveSetting = (x: SettingConfig, v?: string) => {
  if (!x.id) x.id = `${owner.value || owners.value[0]}.`
  return keepPart('settings', x, v)
}
const savePreset = (x: PresetConfig, v?: string) => keepPart('presets', x, v)
const saveRule = (x: RuleConfig, v?: string) => keepPart('rules', x, v)
const saveGroup = (x: GroupConfig, v?: string) => keepPart('groups', x, v)
const groupable = computed(() =>
  Object.values(hub.controls).filter((c) => (c.config.kind === 'switch' || c.config.kind === 'level') && !c.config.momentary),
)
function toggle(g: GroupConfig, control: string) {
  const at = g.members.findIndex((m) => m.control === control)
  if (at >= 0) g.members.splice(at, 1)
  else g.members.push({ control })
}
function ruleState(i: number) {
  const s = rules.value[i]!.state
  if (rules.value[i]!.config.off) return 'off'
  const fired = s.fired && !s.fired.startsWith('0001') ? `last ${since(s.fired, hub.now)} ago` : 'never yet'
  if (s.rests && Date.parse(s.rests) > hub.now)
    return `rests for ${since(new Date(2 * hub.now - Date.parse(s.rests)).toISOString(), hub.now)} more, ${fired}`
  return s.stage ? `waits for step ${s.stage + 1}, ${fired}` : fired
}
</script>

<template>
  <main class="page stack">
    <h1>Control</h1>
    <p v-if="failed" class="note bad" role="alert">{{ failed }}</p>
    <div class="two">
      <div class="stack">
        <section v-for="x in places" :key="x.place.id" class="stack tight" :aria-label="x.place.name">
          <h2 class="soft">{{ x.place.name }}</h2>
          <AutomationCard v-for="c in x.controls" :key="c.config.id" :control="c" :open="hub.owner && want === c.config.id" />
        </section>
        <div v-if="hub.loaded && !places.length" class="sheet soft">
          <p>There is nothing to control yet. A board's first report of a switch makes it appear here.</p>
          <RouterLink v-if="hub.owner" class="btn btn-primary" :to="{ name: 'add-device' }">Add a device</RouterLink>
        </div>
      </div>
      <div class="stack">
        <WeekView :list="next" />
        <PartsCard
          title="Settings"
          one="setting"
          about="A setting is a value that people change and formulas name: a setpoint, hours of light, a time of day."
          :list="settings"
          :fresh="
            () => ({ id: '', name: '', kind: 'number', unit: 'Cel', decimals: 1, min: 5, max: 30, step: 0.5, default: 20 }) as SettingConfig
          "
          :save="saveSetting"
          :remove="(id: string) => ask(api.DELETE('/settings/{id}', { params: { path: { id } } }))"
          @changed="reload">
          <template #line="{ item }"><Stepper v-if="hub.settings[item.id]" :setting="hub.settings[item.id]!" /></template>
          <template #form="{ item, isNew }">
            <div class="fields">
              <label v-if="isNew"
                ><span class="soft small-text">Of</span
                ><select v-model="owner" class="form-select form-select-sm">
                  <option v-for="o in owners" :key="o" :value="o">{{ o }}</option>
                </select></label
              >
              <label
                ><span class="soft small-text">What it is</span
                ><select v-model="item.kind" class="form-select form-select-sm">
                  <option value="number">a number</option>
                  <option value="time">a time of day</option>
                  <option value="duration">a duration</option>
                  <option value="onoff">on or off</option>
                </select></label
              >
              <template v-if="item.kind === 'number'">
                <label class="short"
                  ><span class="soft small-text">Unit</span><input v-model="item.unit" class="form-control form-control-sm"
                /></label>
                <label v-for="k in ['min', 'max', 'step', 'default', 'decimals'] as const" :key="k" class="short"
                  ><span class="soft small-text">{{
                    { min: 'From', max: 'To', step: 'Step', default: 'At first', decimals: 'Decimals' }[k]
                  }}</span
                  ><input v-model.number="item[k]" class="form-control form-control-sm" type="number" step="any" required
                /></label>
              </template>
              <label
                ><span class="soft small-text">The device has a copy, called</span
                ><input v-model="item.mirror" class="form-control form-control-sm" placeholder="no copy"
              /></label>
            </div>
          </template>
        </PartsCard>
        <PartsCard
          title="Presets"
          one="preset"
          about="A preset sets several controls and settings at once, such as all off, or holiday."
          :list="hub.presets as Preset[]"
          :fresh="() => ({ id: '', name: '', actions: [] }) as PresetConfig"
          :save="savePreset"
          :remove="(id: string) => removePart('presets', id)"
          @changed="reload">
          <template #line="{ index }">{{ hub.presets[index]?.state.says.join(', ') }}</template>
          <template #form="{ item }">
            <div class="fields">
              <label class="short"
                ><span class="soft small-text">For</span
                ><select v-model="item.role" class="form-select form-select-sm">
                  <option :value="undefined">members</option>
                  <option value="owner">owners</option>
                  <option value="guest">guests too</option>
                </select></label
              >
              <label class="check"><input v-model="item.ask" type="checkbox" class="form-check-input" /> ask first</label>
              <label class="check"><input v-model="item.ends" type="checkbox" class="form-check-input" /> ask until when it holds</label>
            </div>
            <ActionFields v-model="item.actions" preset />
          </template>
        </PartsCard>
        <PartsCard
          title="Rules"
          one="rule"
          about="A rule does something once when a formula becomes true, and then rests."
          :list="rules"
          :fresh="() => ({ id: '', name: '', stages: [{ when: '', actions: [] }] }) as RuleConfig"
          :save="saveRule"
          :remove="(id: string) => removePart('rules', id)"
          @changed="reload">
          <template #line="{ index }"
            ><span v-for="line in rules[index]?.state.says" :key="line" class="d-block">{{ line }}</span
            ><span class="soft">{{ ruleState(index) }}</span></template
          >
          <template #form="{ item }">
            <fieldset v-for="(g, i) in item.stages" :key="i" class="stack tight">
              <div class="fields">
                <FormulaBox v-model="g.when" :label="i ? 'and then, when' : 'When'" /><FormulaBox
                  v-model="g.if"
                  label="Only if" /><SpanField v-model="g.after_ms" label="for" hint="at once" />
              </div>
              <div v-if="i" class="fields">
                <FormulaBox v-model="g.until" label="Start over when" /><SpanField v-model="g.within_ms" label="or after" hint="2 days" />
              </div>
              <ActionFields v-model="g.actions" />
            </fieldset>
            <div class="fields">
              <SpanField v-model="item.rest_ms" label="Then rest for" /><label v-if="item.rest_ms" class="check"
                ><input v-model="item.repeat" type="checkbox" class="form-check-input" /> and again, for as long as it holds</label
              >
              <label class="check"><input v-model="item.off" type="checkbox" class="form-check-input" /> switched off</label>
              <button type="button" class="btn btn-outline-secondary btn-sm" @click="item.stages.push({ when: '', actions: [] })">
                One more step
              </button>
            </div>
          </template>
        </PartsCard>
        <PartsCard
          title="Groups"
          one="group"
          about="Controls that must not be on together, or that share so much power."
          :list="groups"
          :fresh="() => ({ id: '', name: '', limit: 0, pause_ms: 5000, members: [] }) as GroupConfig"
          :save="saveGroup"
          :remove="(id: string) => removePart('groups', id)"
          @changed="reload">
          <template #line="{ index }">{{ groups[index]?.state.says.join(' ') }}</template>
          <template #form="{ item }">
            <div class="fields">
              <label class="short"
                ><span class="soft small-text">Watts together; 0: one at a time</span
                ><input v-model.number="item.limit" class="form-control form-control-sm" type="number" min="0" /></label
              ><SpanField v-model="item.pause_ms" label="Pause between" />
            </div>
            <div class="stack tight">
              <div v-for="c in groupable" :key="c.config.id" class="fields">
                <label class="check"
                  ><input
                    type="checkbox"
                    class="form-check-input"
                    :checked="item.members.some((m) => m.control === c.config.id)"
                    @change="toggle(item, c.config.id)" />
                  {{ c.config.name }} <span class="soft">{{ c.config.id }}</span></label
                >
                <template v-for="m in item.members" :key="m.control"
                  ><label v-if="item.limit && m.control === c.config.id" class="short"
                    ><span class="soft small-text">Watts</span
                    ><input v-model.number="m.watts" class="form-control form-control-sm" type="number" min="1" /></label
                ></template>
              </div>
            </div>
          </template>
        </PartsCard>
      </div>
    </div>
  </main>
</template>

<style scoped>
.two {
  display: grid;
  gap: 18px;
  grid-template-columns: minmax(0, 1fr);
  align-items: start;
}
@media (min-width: 1000px) {
  .two {
    grid-template-columns: minmax(0, 1.25fr) minmax(0, 1fr);
  }
}
.check {
  display: flex !important;
  gap: 8px;
  align-items: center;
}
</style>
