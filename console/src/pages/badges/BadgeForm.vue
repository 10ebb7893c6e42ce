<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref, watch } from 'vue'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import Frame from '../../parts/form/Frame.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import WhenField from '../../parts/form/WhenField.vue'
import Oops from '../../parts/Oops.vue'
import CriterionFields from '../stages/CriterionFields.vue'

/** Makes a badge, or changes what one says. */
const props = defineProps<{ badge?: Schemas['Badge'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const issuers = useQuery({ queryKey: ['issuers'], queryFn: () => ok(api.GET('/api/v1/issuers')) })
const issuer = ref(props.badge?.issuer ?? '')
watch(
  () => issuers.data.value?.items[0]?.name,
  (name) => (issuer.value ||= name ?? ''),
  { immediate: true },
)
const badge = reactive({
  name: props.badge?.name ?? '',
  description: props.badge?.description ?? '',
  criteria: props.badge?.criteria ?? '',
})
const asks = ref<Schemas['Criterion'][]>(JSON.parse(JSON.stringify(props.badge?.asks ?? [])))
const others = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })
const tags = ref(props.badge?.tags?.join(', ') ?? '')
const validDays = ref(props.badge?.validDays || undefined)
const lastDay = ref(props.badge?.lastDay ?? '')
const renewable = ref(props.badge?.renewable ?? false)
const level = ref(props.badge?.level ?? '')
const draft = ref(false)
const goals = ref(props.badge?.alignments?.map((a) => `${a.name} = ${a.address}`).join('\n') ?? '')
/** The goals as they are typed, one a line; what is not typed of one that stays is kept. */
const alignments = () =>
  goals.value
    .split('\n')
    .filter((line) => line.trim())
    .map((line) => {
      const [, name, address] = /^(.*?)\s*=\s*(.*)$/.exec(line.trim()) ?? [line, line.trim(), '']
      const had = props.badge?.alignments?.find((a) => a.name === name && a.address === address)
      return { ...had, name: name ?? '', address: address ?? '' }
    })
const says = () => ({
  ...badge,
  asks: asks.value,
  tags: tags.value
    .split(',')
    .map((t) => t.trim())
    .filter(Boolean),
  validDays: validDays.value ?? 0,
  lastDay: lastDay.value,
  renewable: renewable.value,
  level: level.value,
  alignments: alignments(),
})

const save = useMutation({
  mutationFn: async () => {
    if (props.badge)
      return ok(
        api.PATCH('/api/v1/badges/{id}', {
          params: { path: { id: props.badge.id }, header: ifMatch(props.badge.revision) },
          body: says(),
        }),
      )
    const wanted = issuer.value.trim()
    const known = issuers.data.value?.items.find((i) => i.name.toLowerCase() === wanted.toLowerCase())
    const { id } = known ?? (await ok(api.POST('/api/v1/issuers', { body: { name: wanted } })))
    try {
      return await ok(
        api.POST('/api/v1/badges', {
          body: { issuerId: id, ...says(), state: draft.value ? 'draft' : 'published' },
        }),
      )
    } catch (e) {
      // An issuer that was made for it is not left behind.
      if (!known) await ok(api.DELETE('/api/v1/issuers/{id}', { params: { path: { id } } }))
      throw e
    }
  },
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['badges'] })
    emit('close')
  },
})
const problem = computed(() => save.error.value)
const sending = computed(() => save.isPending.value)
</script>

<template>
  <Frame
    :of="save"
    :title="props.badge ? $t('badges.changeBadge', { name: props.badge.name }) : $t('badges.makeBadge')"
    width="32rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <TextField id="badge-name" v-model="badge.name" name="name" autofocus :label="$t('common.name')" />
      <p v-if="props.badge?.awards" class="faint">
        {{ $t('badges.newVersion', { n: props.badge.awards }, props.badge.awards) }}
      </p>
      <TextField
        v-if="!props.badge"
        id="issuer"
        v-model="issuer"
        name="issuerId"
        :label="$t('badges.issuer')"
        :help="$t('badges.newNameMakesNewIssuer')"
      />
      <AreaField
        id="description"
        v-model="badge.description"
        name="description"
        :rows="2"
        :label="$t('badges.whatItIsFor')"
      />
      <AreaField
        id="criteria"
        v-model="badge.criteria"
        name="criteria"
        :rows="2"
        :label="$t('badges.whatItTakes')"
      />
      <fieldset>
        <legend>{{ $t('badges.asks') }}</legend>
        <p class="faint">{{ $t('badges.asksHelp') }}</p>
        <CriterionFields
          v-for="(_, i) in asks"
          :key="i"
          v-model="asks[i]!"
          course=""
          :badges="others.data.value?.items.filter((b) => b.id !== props.badge?.id) ?? []"
          :name="`${i + 1}`"
          @drop="asks.splice(i, 1)"
        />
        <Button
          size="small"
          type="button"
          variant="text"
          :label="$t('badges.addAsk')"
          @click="asks.push({ kind: 'module' })"
        />
      </fieldset>
      <TextField
        id="badge-tags"
        v-model="tags"
        name="tags"
        :label="$t('badges.tags')"
        :help="$t('badges.tagsHelp')"
      />
      <NumberField
        id="badge-days"
        v-model="validDays"
        name="validDays"
        :min="1"
        :label="$t('badges.validDays')"
        :placeholder="$t('badges.forGood')"
      />
      <WhenField
        id="badge-last"
        v-model="lastDay"
        name="lastDay"
        of="date"
        :label="$t('badges.lastDay')"
        :help="$t('badges.lastDayHelp')"
      />
      <TickField
        v-if="validDays || lastDay || renewable"
        id="badge-renewable"
        v-model="renewable"
        name="renewable"
        :label="$t('badges.renewable')"
      />
      <TextField
        id="badge-level"
        v-model="level"
        name="level"
        :label="$t('badges.level')"
        :help="$t('badges.levelHelp')"
      />
      <AreaField
        id="badge-goals"
        v-model="goals"
        name="alignments"
        :rows="2"
        :label="$t('badges.alignments')"
        :help="$t('badges.alignmentsHelp')"
      />
      <TickField v-if="!props.badge" v-model="draft" :label="$t('badges.asDraft')" />
      <Oops :error="problem" />
      <div class="actions">
        <Button
          type="submit"
          :label="props.badge ? $t('common.save') : $t('badges.make')"
          :loading="sending"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
fieldset {
  border: 1px solid var(--line);
  margin: 0.6rem 0;
  padding: 0.2rem 0.8rem 0.4rem;
}

legend {
  font-weight: 600;
}

fieldset p {
  margin: 0;
}
</style>
