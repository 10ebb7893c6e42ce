<script setup lang="ts">
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, onUnmounted, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { word } from '../../parts/words'

/** Draws a badge's picture, which is seen while it is drawn. */
const props = defineProps<{ badge: Schemas['Badge']; begin: Schemas['Design']; others: Schemas['Badge'][] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
type Design = Schemas['Design']
const copy = (d: Design) => JSON.parse(JSON.stringify(d)) as Design
const drawn = computed(() => props.others.filter((b) => b.design && b.id !== props.badge.id))
const design = ref(copy(props.begin))
const like = ref<string>()
function beginLike(id?: string) {
  const other = drawn.value.find((b) => b.id === id)?.design
  if (other) design.value = { ...copy(other), below: design.value.below, symbol: design.value.symbol }
}

const symbols = useQuery({
  queryKey: ['badge-symbols'],
  queryFn: () => ok(api.GET('/api/v1/badge-symbols')),
  staleTime: Infinity,
})
// What is drawn follows what is chosen, but not every letter that is typed.
const shown = ref(copy(design.value))
let later: ReturnType<typeof setTimeout> | undefined
watch(
  design,
  () => {
    clearTimeout(later)
    later = setTimeout(() => (shown.value = copy(design.value)), 150)
  },
  { deep: true },
)
onUnmounted(() => clearTimeout(later))
const preview = useQuery({
  queryKey: ['badge-drawings', shown],
  queryFn: () =>
    ok(api.POST('/api/v1/badge-drawings', { body: { design: shown.value, title: props.badge.name } })),
  placeholderData: keepPreviousData,
  retry: false,
})
const picture = computed(() =>
  preview.data.value ? `data:image/svg+xml,${encodeURIComponent(preview.data.value.svg)}` : '',
)
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/badges/{id}/drawing', {
        params: { path: { id: props.badge.id } },
        body: { design: design.value },
      }),
    ),
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['badges'] })
    emit('close')
  },
})
const shapes = ['round', 'shield', 'hexagon', 'rosette', 'square', 'drop'] as const
const problem = computed(() => save.error.value ?? preview.error.value)
const sending = computed(() => save.isPending.value)
const nothing = () => delete design.value.symbol
</script>

<template>
  <Frame
    :of="save"
    :title="$t('badges.drawPictureOf', { name: badge.name })"
    width="58rem"
    :typed="design"
    @close="emit('close')"
  >
    <form class="drawing" @submit.prevent="save.mutate()">
      <div class="seen">
        <img v-if="picture" :src="picture" :alt="$t('badges.pictureOf', { name: badge.name })" />
        <Oops :error="problem" />
      </div>
      <div>
        <ChoiceField
          v-if="drawn.length"
          id="design-like"
          v-model="like"
          :label="$t('badges.beginLike')"
          :options="drawn.map((b) => ({ value: b.id, label: b.name }))"
          @update:model-value="beginLike"
        />
        <ChoiceField
          id="design-shape"
          v-model="design.shape"
          :label="$t('badges.shape')"
          :options="shapes.map((s) => ({ value: s, label: word(`shape-${s}`) }))"
        />
        <fieldset>
          <legend>{{ $t('badges.inTheMiddle') }}</legend>
          <div class="symbols">
            <label v-for="s in symbols.data.value?.items" :key="s.name" :title="word(`symbol-${s.name}`)">
              <input
                v-model="design.symbol"
                type="radio"
                name="symbol"
                :value="s.name"
                :aria-label="word(`symbol-${s.name}`)"
              />
              <svg viewBox="0 0 256 256" aria-hidden="true"><path :d="s.path" fill="currentColor" /></svg>
            </label>
          </div>
          <Button
            v-if="design.symbol"
            type="button"
            size="small"
            variant="text"
            :label="$t('badges.noSymbol')"
            @click="nothing"
          />
          <TextField
            id="design-letters"
            v-model="design.letters"
            maxlength="12"
            :label="$t('badges.letters')"
            :help="$t('badges.lettersHelp')"
          />
        </fieldset>
        <div class="pair">
          <TextField id="design-above" v-model="design.above" maxlength="60" :label="$t('badges.above')" />
          <TextField id="design-below" v-model="design.below" maxlength="60" :label="$t('badges.below')" />
        </div>
        <NumberField id="design-stars" v-model="design.stars" :min="0" :max="5" :label="$t('badges.stars')" />
        <div class="colours">
          <TextField id="design-edge" v-model="design.colours.edge" type="color" :label="$t('badges.edge')" />
          <TextField id="design-body" v-model="design.colours.body" type="color" :label="$t('badges.body')" />
          <TextField id="design-disc" v-model="design.colours.disc" type="color" :label="$t('badges.disc')" />
          <TextField
            id="design-symbol"
            v-model="design.colours.symbol"
            type="color"
            :label="$t('badges.symbolColour')"
          />
          <TextField
            id="design-text"
            v-model="design.colours.text"
            type="color"
            :label="$t('badges.textColour')"
          />
        </div>
        <p class="faint">{{ $t('badges.awardsKeepPictures') }}</p>
        <div class="actions">
          <Button type="submit" :label="$t('badges.useIt')" :loading="sending" />
          <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
        </div>
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.drawing {
  display: grid;
  grid-template-columns: minmax(12rem, 19rem) 1fr;
  gap: 2rem;
}

.seen {
  position: sticky;
  top: 0;
  align-self: start;
}

.seen img {
  display: block;
  width: 100%;
}

fieldset {
  margin: 0.4rem 0;
  padding: 0;
  border: 0;
}

legend {
  padding: 0 0 0.3rem;
  font-size: 0.85rem;
  color: var(--faint);
}

.symbols {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem;
}

.symbols label {
  position: relative;
  width: 2.1rem;
  height: 2.1rem;
  padding: 0.3rem;
  border: 1px solid var(--line);
  cursor: pointer;
}

.symbols label:has(:checked) {
  border-color: var(--ink);
  background: var(--ink);
  color: var(--sheet);
}

.symbols label:has(:focus-visible) {
  outline: 2px solid var(--signal);
  outline-offset: 1px;
}

.symbols input {
  position: absolute;
  inset: 0;
  margin: 0;
  opacity: 0;
  cursor: pointer;
}

.symbols svg {
  display: block;
  width: 100%;
  height: 100%;
}

.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1rem;
}

.colours {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 1rem;
}

.colours :deep(input) {
  width: 4.5rem;
  height: 2.2rem;
  padding: 0.15rem;
}

@media (max-width: 640px) {
  .drawing {
    grid-template-columns: 1fr;
    gap: 0.6rem;
  }

  .seen {
    position: static;
    max-width: 14rem;
  }
}
</style>
