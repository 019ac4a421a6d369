<script setup lang="ts">
// The picture of a tile, what is pinned on it, and which of its parts move.
import { computed, ref } from 'vue'
import { api, ask, sentence, type Part, type Pin, type Tile } from '../../api'
import { about, freeId, upload } from '../../dashboards'
import { num } from '../../form'
import { kindName } from '../../tiles'
import ThingPicker from '../ThingPicker.vue'

const props = defineProps<{ tile: Tile; elements: { id: string; what: string }[]; picked: string }>()
const emit = defineEmits<{ change: [by: Partial<Tile>]; pick: [pin: string] }>()
const change = (by: Partial<Tile>) => emit('change', by)
const value = (e: Event) => (e.target as HTMLInputElement).value
const adding = ref('')
const failed = ref('')
const left = ref<string[]>([])

async function picture(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (!file) return
  failed.value = ''
  try {
    const got = await upload(file)
    left.value = got.left_out
    change({ picture: got.id, parts: got.type === 'image/svg+xml' ? props.tile.parts : undefined })
  } catch (err) {
    failed.value = sentence(err)
  }
}

const pins = computed(() => props.tile.pins ?? [])
function addPin(id: string) {
  const a = about(id)
  const kind = a.kind === 'control' ? 'control' : a.kind === 'signal' && a.signal.config.kind === 'onoff' ? 'lamp' : 'value'
  const pin: Pin = {
    id: freeId(pins.value as unknown as Tile[]).replace('t', 'p'),
    kind,
    of: id,
    x: 50,
    y: 20 + ((pins.value.length * 12) % 70),
  }
  change({ pins: [...pins.value, pin] })
  emit('pick', pin.id)
  adding.value = ''
}
const setPin = (id: string, by: Partial<Pin>) => change({ pins: pins.value.map((p) => (p.id === id ? { ...p, ...by } : p)) })
const pinKinds = (p: Pin) => {
  const a = about(p.of)
  return a.kind === 'control'
    ? ['control', 'lamp']
    : a.kind === 'signal' && a.signal.config.kind === 'number'
      ? ['value', 'sparkline', 'lamp']
      : ['lamp', 'value']
}

const parts = computed(() => props.tile.parts ?? [])
const setPart = (i: number, by: Partial<Part>) =>
  change({
    parts: parts.value.map((p, k) =>
      k === i ? (Object.fromEntries(Object.entries({ ...p, ...by }).filter(([, v]) => v !== undefined && v !== '')) as Part) : p,
    ),
  })
const does = { fill: 'fills', opacity: 'fades', show: 'shows', turn: 'turns', text: 'writes', level: 'is as high as' } as const
const colours = [
  ['ember', 'ember'],
  ['data', 'slate'],
  ['well', 'green'],
  ['warn', 'amber'],
  ['critical', 'red'],
  ['ink', 'ink'],
  ['soft', 'grey'],
  ['line', 'pale'],
  ['sheet', 'paper'],
]
function addPart(of: string) {
  const element = props.elements.find((e) => !parts.value.some((p) => p.element === e.id))?.id ?? props.elements[0]?.id ?? ''
  change({ parts: [...parts.value, { element, does: 'fill', of }] })
  adding.value = ''
}
const said = ref<Record<number, string>>({})
async function formula(i: number, text: string) {
  setPart(i, { formula: text || undefined, of: undefined })
  try {
    const got = await ask(api.POST('/formulas/check', { body: { text } }))
    said.value[i] = got.ok ? `It comes to ${got.value} now.` : (got.reason ?? '')
  } catch (e) {
    said.value[i] = sentence(e)
  }
}
const movers = (p: Part) => p.formula !== undefined
</script>

<template>
  <div class="stack tight">
    <label
      ><span class="soft small-text">{{ tile.picture ? 'Another picture' : 'Picture' }} (SVG, PNG or JPEG, up to 4 MB)</span
      ><input class="form-control form-control-sm" type="file" accept="image/svg+xml,image/png,image/jpeg" @change="picture"
    /></label>
    <p v-if="failed" class="note bad small-text mb-0" role="alert">{{ failed }}</p>
    <p v-if="left.length" class="note small-text mb-0" role="status">Left out, as it could do harm: {{ left.join(', ') }}</p>
    <h3>Pinned on it</h3>
    <div v-for="p in pins" :key="p.id" class="inset" :class="{ picked: picked === p.id }">
      <div class="between">
        <strong class="small-text">{{ about(p.of).name }}</strong><button
          type="button"
          class="gone"
          :aria-label="`Take the pin ${about(p.of).name} away`"
          @click="change({ pins: pins.filter((x) => x.id !== p.id) })">
          ×
        </button>
      </div>
      <div class="fields">
        <label class="short"
          ><span>as</span
          ><select class="form-select form-select-sm" :value="p.kind" @change="setPin(p.id, { kind: value($event) as Pin['kind'] })">
            <option v-for="k in pinKinds(p)" :key="k" :value="k">{{ kindName(k) }}</option>
          </select></label
        >
        <label class="short"
          ><span>across, %</span
          ><input
            class="form-control form-control-sm"
            type="number"
            min="0"
            max="100"
            step="0.5"
            :value="p.x"
            @change="setPin(p.id, { x: num(value($event)) ?? p.x })"
        /></label>
        <label class="short"
          ><span>down, %</span
          ><input
            class="form-control form-control-sm"
            type="number"
            min="0"
            max="100"
            step="0.5"
            :value="p.y"
            @change="setPin(p.id, { y: num(value($event)) ?? p.y })"
        /></label>
      </div>
    </div>
    <button v-if="adding !== 'pin'" type="button" class="btn btn-outline-secondary btn-sm" @click="adding = 'pin'">
      Pin something on it
    </button>
    <ThingPicker v-else :kinds="['signal', 'control']" label="What to pin" @pick="addPin" />
    <template v-if="elements.length">
      <h3>Parts that move</h3>
      <div v-for="(p, i) in parts" :key="i" class="inset">
        <div class="fields">
          <label class="short"
            ><span>The part</span
            ><select class="form-select form-select-sm" :value="p.element" @change="setPart(i, { element: value($event) })">
              <option v-if="!elements.some((e) => e.id === p.element)" :value="p.element">{{ p.element }} (gone)</option>
              <option v-for="e in elements" :key="e.id" :value="e.id">{{ e.id }}</option>
            </select></label
          >
          <label class="short"
            ><span>&nbsp;</span
            ><select
              class="form-select form-select-sm"
              aria-label="What it does"
              :value="p.does"
              @change="setPart(i, { does: value($event) as Part['does'], start: undefined, end: undefined })">
              <option v-for="(n, d) in does" :key="d" :value="d">{{ n }}</option>
            </select></label
          >
          <button
            type="button"
            class="gone"
            :aria-label="`Let ${p.element} stand still`"
            @click="change({ parts: parts.filter((_, k) => k !== i) })">
            ×
          </button>
        </div>
        <label v-if="movers(p)" class="d-block"
          ><span class="soft small-text">by the formula</span
          ><input
            class="form-control form-control-sm mono"
            :value="p.formula"
            placeholder="slip_tank.level > 40"
            @change="formula(i, value($event))" /><span class="small-text soft" role="status">{{ said[i] }}</span></label
        >
        <p v-else class="small-text mb-1">
          by {{ about(p.of ?? '').name }} <span class="soft">{{ about(p.of ?? '').place }}</span> {{ ' '
          }}<button type="button" class="plain" @click="setPart(i, { of: undefined, formula: p.of })">by a formula instead</button>
        </p>
        <div class="fields">
          <template v-if="about(p.of ?? '').kind !== 'control'">
            <label class="short"
              ><span>from</span
              ><input
                class="form-control form-control-sm"
                type="number"
                step="any"
                :value="p.low"
                placeholder="0"
                @change="setPart(i, { low: num(value($event)) })"
            /></label>
            <label class="short"
              ><span>to</span
              ><input
                class="form-control form-control-sm"
                type="number"
                step="any"
                :value="p.high"
                placeholder="on"
                @change="setPart(i, { high: num(value($event)) })"
            /></label>
          </template>
          <template v-if="p.does === 'fill'">
            <label class="short"
              ><span>off, or low</span
              ><select class="form-select form-select-sm" :value="p.start ?? 'sheet'" @change="setPart(i, { start: value($event) })">
                <option v-for="[c, n] in colours" :key="c" :value="c">{{ n }}</option>
              </select></label
            >
            <label class="short"
              ><span>on, or high</span
              ><select class="form-select form-select-sm" :value="p.end ?? 'ember'" @change="setPart(i, { end: value($event) })">
                <option v-for="[c, n] in colours" :key="c" :value="c">{{ n }}</option>
              </select></label
            >
          </template>
          <template v-else-if="p.does === 'turn' || p.does === 'opacity'">
            <label class="short"
              ><span>{{ p.does === 'turn' ? 'degrees, off' : '0 to 1, off' }}</span
              ><input
                class="form-control form-control-sm"
                type="number"
                step="any"
                :value="p.start"
                @change="setPart(i, { start: value($event) })"
            /></label>
            <label class="short"
              ><span>{{ p.does === 'turn' ? 'degrees, on' : '0 to 1, on' }}</span
              ><input
                class="form-control form-control-sm"
                type="number"
                step="any"
                :value="p.end"
                @change="setPart(i, { end: value($event) })"
            /></label>
          </template>
        </div>
      </div>
      <button v-if="adding !== 'part'" type="button" class="btn btn-outline-secondary btn-sm" @click="adding = 'part'">Move a part</button>
      <ThingPicker v-else :kinds="['signal', 'control']" label="What moves it" @pick="addPart" />
    </template>
  </div>
</template>

<style scoped>
h3 {
  font-size: 0.875rem;
  font-weight: 700;
  margin: 8px 0 0;
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 40px;
  min-height: 36px;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  text-decoration: underline;
  text-underline-offset: 3px;
}
.inset.picked {
  border-left-color: var(--data);
}
.fields > label.short {
  flex: 1 1 90px;
}
</style>
