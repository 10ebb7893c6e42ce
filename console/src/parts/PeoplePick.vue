<script setup lang="ts">
import Button from 'primevue/button'
import { ref, watch } from 'vue'

import { people } from './find'
import Finder from './Finder.vue'

/** Chooses people: whoever is found comes on the list. */
const on = defineModel<{ id: string; name: string }[]>({ required: true })
const names = ref<Record<string, string>>({})
const found = ref('')
async function search(text: string) {
  const all = await people(text)
  for (const p of all.items) names.value[p.id] = p.label
  return all
}
watch(found, (id) => {
  if (id && !on.value.some((p) => p.id === id)) on.value = [...on.value, { id, name: names.value[id] ?? id }]
})
</script>

<template>
  <div class="field">
    <label>{{ $t('common.people') }}</label>
    <Finder v-model="found" :label="$t('sections.nameAddressOrIdentifier')" :search="search" />
    <ul class="on">
      <li v-for="p in on" :key="p.id">
        {{ p.name }}
        <Button
          size="small"
          variant="text"
          label="×"
          :aria-label="$t('sections.takeOff', { name: p.name })"
          @click="on = on.filter((x) => x.id !== p.id)"
        />
      </li>
    </ul>
  </div>
</template>

<style scoped>
.on {
  list-style: none;
  padding: 0;
  max-height: 14rem;
  overflow-y: auto;
}

.on li {
  display: flex;
  justify-content: space-between;
  border-bottom: 1px solid var(--hair);
}
</style>
