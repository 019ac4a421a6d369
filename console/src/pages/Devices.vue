<script setup lang="ts">
import { computed } from 'vue'
import { deviceState, linkNames, rhythm, since } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const devices = computed(() =>
  Object.values(hub.devices).sort(
    (a, b) => Number(!!a.config.state) - Number(!!b.config.state) || a.config.name.localeCompare(b.config.name),
  ),
)
const placeName = (id: string) => hub.places.find((p) => p.id === id)?.name ?? id
</script>

<template>
  <main class="page">
    <div class="between mb-3">
      <h1>Devices</h1>
      <div v-if="hub.owner" class="d-flex gap-2">
        <RouterLink class="btn btn-outline-secondary" to="/models">Device models</RouterLink>
        <RouterLink class="btn btn-primary" to="/devices/new">Add a device</RouterLink>
      </div>
    </div>
    <section v-if="devices.length" class="sheet">
      <table class="table cards">
        <thead>
          <tr>
            <th>Name</th>
            <th>Place</th>
            <th>State</th>
            <th>Last heard</th>
            <th>Messages</th>
            <th v-if="hub.owner" class="num">Refused</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in devices" :key="d.config.id" :class="{ soft: d.config.state }">
            <td>
              <RouterLink :to="{ name: 'device', params: { id: d.config.id } }"
                ><strong>{{ d.config.name }}</strong></RouterLink
              ><br /><span class="soft small-text">{{ d.config.id }} · {{ linkNames[d.config.link.kind] }}</span>
            </td>
            <td>{{ placeName(d.config.place) }}</td>
            <td :class="{ 'warn-text': deviceState(d, hub.now).warn }">{{ deviceState(d, hub.now).words }}</td>
            <td data-label="last heard">{{ d.state.last_heard ? since(d.state.last_heard, hub.now) + ' ago' : 'never' }}</td>
            <td data-label="messages">{{ rhythm(d) }}</td>
            <td v-if="hub.owner" class="num" data-label="refused" :class="{ 'warn-text': d.state.refused > 0 }">{{ d.state.refused }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <p v-else-if="!hub.loaded" class="soft" aria-busy="true">Asking the hub …</p>
    <section v-else class="sheet soft">
      {{
        hub.owner
          ? 'No device yet. Add one: it gets a key of its own, and its readings appear by themselves.'
          : 'There is no device that you may see.'
      }}
    </section>
  </main>
</template>
