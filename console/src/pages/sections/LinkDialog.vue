<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import OneSection from '../../parts/OneSection.vue'
import Oops from '../../parts/Oops.vue'

/** Links sections: says what becomes shared, and why others cannot be linked. */
const props = defineProps<{ chosen: Schemas['Section'][] }>()
const emit = defineEmits<{ close: []; linked: [] }>()
const queries = useQueryClient()

// What is paired leads, so that its class becomes the class of all.
const lead = ref(
  props.chosen.find((x) => x.pairingId && !x.set)?.id ?? props.chosen.find((x) => !x.set)?.id ?? '',
)
const others = ref<string[]>(props.chosen.map((x) => x.id).filter((id) => id !== lead.value))
const name = ref('')
const reason = ref('')
const find = ref('')

const linkable = useQuery({
  queryKey: ['linkable', lead, find],
  queryFn: () =>
    ok(
      api.GET('/api/v1/sections/{id}/linkable', {
        params: { path: { id: lead.value }, query: { text: find.value, limit: 60 } },
      }),
    ),
  enabled: () => !!lead.value,
  placeholderData: (before) => before,
})
const unseen = computed(() => (linkable.data.value?.total ?? 0) - (linkable.data.value?.items.length ?? 0))
watch(lead, (now) => (others.value = others.value.filter((id) => id !== now)))
const body = computed(() => ({
  leadId: lead.value,
  sections: others.value,
  name: name.value,
  reason: reason.value,
}))
const outlook = useQuery({
  queryKey: ['linkable', 'outlook', body],
  queryFn: () => ok(api.POST('/api/v1/linked-sets/outlook', { body: body.value })),
  enabled: () => !!lead.value && others.value.length > 0,
})
const out = computed(() => (others.value.length ? outlook.data.value : undefined))
const overridable = computed(() =>
  linkable.data.value?.items.some((l) => others.value.includes(l.id) && l.obstacles.some((o) => o.override)),
)
const link = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/linked-sets', { body: body.value })),
  onSuccess: async () => {
    await refresh(queries, 'section', 'pairing')
    emit('linked')
    emit('close')
  },
})

function toggle(id: string) {
  others.value = others.value.includes(id) ? others.value.filter((x) => x !== id) : [...others.value, id]
}
</script>

<template>
  <Frame :of="link" :title="$t('sections.linkSections')" width="46rem" @close="emit('close')">
    <p class="faint">{{ $t('sections.linkedSectionsAreHandledAs') }}</p>
    <div class="two">
      <div>
        <div class="field">
          <label for="lead">{{ $t('sections.leadSection') }}</label>
          <OneSection v-model="lead" input-id="lead" :label="$t('sections.leadSection')" />
        </div>
        <TextField
          v-if="lead"
          v-model="find"
          type="search"
          :placeholder="$t('sections.findSection')"
          class="find"
          hidden
          :label="$t('sections.findSectionToLink')"
        />
        <ul v-if="lead" class="list" :aria-label="$t('sections.sectionsToLink')">
          <li v-for="l in linkable.data.value?.items" :key="l.id">
            <TickField
              :model-value="others.includes(l.id)"
              :disabled="l.obstacles.some((o) => !o.override)"
              :label="l.title"
              @update:model-value="toggle(l.id)"
            >
              {{ l.title }}
              <span class="faint">{{
                $t('sections.learners', { terms: l.terms.join(', '), learners: l.learners })
              }}</span>
            </TickField>
            <small v-if="l.obstacles.length" class="faint why">{{
              l.obstacles.map((o) => o.detail).join('; ')
            }}</small>
          </li>
        </ul>
        <p v-if="unseen > 0" class="faint">
          {{ $t('sections.moreCouldBeLinkedType', { unseen: unseen.toLocaleString() }) }}
        </p>
      </div>
      <div>
        <TextField
          id="set-name"
          v-model="name"
          name="name"
          :placeholder="out?.name"
          :label="$t('sections.nameOfSet')"
        />
        <TextField
          v-if="overridable"
          id="reason"
          v-model="reason"
          name="reason"
          :label="$t('sections.whyTheseAreLinkedAll')"
          :help="$t('sections.keptInAuditTrailWith')"
        />
        <div v-if="out" class="outlook" aria-live="polite">
          <h3>{{ $t('sections.whatBecomesShared') }}</h3>
          <p>{{ $t('sections.peopleOfThemInMore', { people: out.people, several: out.several }) }}</p>
          <p v-for="t in out.targets" :key="t">{{ $t('sections.leadsClassBecomesClassOf', { t }) }}</p>
          <p class="faint">{{ $t('sections.safetyCopyOfRostersAnd', { results: out.results }) }}</p>
          <p v-for="r in out.refused" :key="r.section.id + r.code" class="bad">
            ▲ {{ r.section.title }}: {{ r.detail
            }}<template v-if="r.override">{{ $t('sections.giveReasonToLinkIt') }}</template>
          </p>
        </div>
        <Oops :error="outlook.error.value ?? link.error.value ?? linkable.error.value" />
        <div class="actions">
          <Button
            :label="$t('sections.linkSectionsOthers', { others: others.length + 1 })"
            :disabled="!out || out.refused.length > 0"
            :loading="link.isPending.value"
            @click="link.mutate()"
          />
          <Button variant="text" :label="$t('common.cancel')" @click="emit('close')" />
        </div>
      </div>
    </div>
  </Frame>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1.5rem;
}

.find {
  width: 100%;
}

.list {
  list-style: none;
  padding: 0;
  margin: 0.4rem 0 0;
  max-height: 19rem;
  overflow-y: auto;
}

.list li {
  padding: 0.22rem 0;
  border-bottom: 1px solid var(--hair);
}

.why {
  display: block;
  padding-inline-start: 1.4rem;
}

.outlook p {
  margin: 0.3rem 0;
}

.bad {
  color: var(--signal);
}

h3 {
  font: 600 13px/1.4 var(--sans);
  margin: 0.6rem 0 0;
}
</style>
