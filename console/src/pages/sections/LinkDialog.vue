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
  <Frame :of="link" title="Link sections" width="46rem" @close="emit('close')">
    <p class="faint">
      Linked sections are handled as one: one class at the service, with a group for each section inside it.
    </p>
    <div class="two">
      <div>
        <div class="field">
          <label for="lead">Lead section</label>
          <OneSection v-model="lead" input-id="lead" label="Lead section" />
        </div>
        <TextField
          v-if="lead"
          v-model="find"
          type="search"
          placeholder="Find a section"
          class="find"
          hidden
          label="Find a section to link"
        />
        <ul v-if="lead" class="list" aria-label="Sections to link">
          <li v-for="l in linkable.data.value?.items" :key="l.id">
            <TickField
              :model-value="others.includes(l.id)"
              :disabled="l.obstacles.some((o) => !o.override)"
              :label="l.title"
              @update:model-value="toggle(l.id)"
            >
              {{ l.title }} <span class="faint">{{ l.terms.join(', ') }}, {{ l.learners }} learners</span>
            </TickField>
            <small v-if="l.obstacles.length" class="faint why">{{
              l.obstacles.map((o) => o.detail).join('; ')
            }}</small>
          </li>
        </ul>
        <p v-if="unseen > 0" class="faint">
          {{ unseen.toLocaleString() }} more could be linked. Type a part of the title to see them.
        </p>
      </div>
      <div>
        <TextField id="set-name" v-model="name" :placeholder="out?.name" label="Name of the set" />
        <TextField
          v-if="overridable"
          id="reason"
          v-model="reason"
          label="Why these are linked all the same"
          help="Kept in the audit trail with your name."
        />
        <div v-if="out" class="outlook" aria-live="polite">
          <h3>What becomes shared</h3>
          <p>{{ out.people }} people, {{ out.several }} of them in more than one of the sections.</p>
          <p v-for="t in out.targets" :key="t">{{ t }}, the lead's class, becomes the class of all.</p>
          <p class="faint">
            A safety copy of the rosters and of {{ out.results }} results is kept first; it can be downloaded.
          </p>
          <p v-for="r in out.refused" :key="r.section.id + r.code" class="bad">
            ▲ {{ r.section.title }}: {{ r.detail
            }}<template v-if="r.override">; give a reason to link it</template>
          </p>
        </div>
        <Oops :error="outlook.error.value ?? link.error.value ?? linkable.error.value" />
        <div class="actions">
          <Button
            :label="`Link ${others.length + 1} sections`"
            :disabled="!out || out.refused.length > 0"
            :loading="link.isPending.value"
            @click="link.mutate()"
          />
          <Button variant="text" label="Cancel" @click="emit('close')" />
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
