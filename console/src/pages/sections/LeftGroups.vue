<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { mayAll } from '../../shell/may'

/** Groups inside classes that are for no section any more; empty ones can be removed. */
const queries = useQueryClient()
const groups = useQuery({
  queryKey: ['sets', 'groups'],
  queryFn: () => ok(api.GET('/api/v1/left-groups')),
  enabled: mayAll('look'),
  retry: false,
})
const remove = useMutation({
  mutationFn: (g: Schemas['LeftGroup']) =>
    ok(api.POST('/api/v1/left-groups/remove', { body: { interfaceId: g.interfaceId, ref: g.ref } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['sets', 'groups'] }),
})
</script>

<template>
  <Oops :error="groups.error.value ?? remove.error.value" :again="groups.refetch" />
  <section v-if="groups.data.value?.length">
    <h2>{{ $t('sections.groupsThatAreForNo') }}</h2>
    <ul>
      <li v-for="g in groups.data.value" :key="g.ref">
        <span
          >{{ g.name || g.section }}
          <span class="faint">{{
            $t('sections.inWasFor', { class: g.class, section: g.section })
          }}</span></span
        >
        <span v-if="g.problem" class="faint">{{ $t('sections.whoIsInItIs', { problem: g.problem }) }}</span>
        <span v-else-if="g.members" class="faint">{{
          $t('sections.peopleInIt', { members: g.members }, g.members)
        }}</span>
        <span v-else class="faint">{{
          g.gone ? $t('sections.itIsGoneThere') : $t('sections.nobodyIsInIt')
        }}</span>
        <Button
          v-if="!g.members && !g.problem"
          size="small"
          variant="outlined"
          :label="g.gone ? $t('sections.forgetItLink') : $t('sections.removeItThere')"
          :loading="remove.isPending.value && remove.variables.value?.ref === g.ref"
          @click="remove.mutate(g)"
        />
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-top: 1.6rem;
}

ul {
  list-style: none;
  padding: 0;
}

li {
  display: grid;
  grid-template-columns: 1fr auto auto;
  gap: 1rem;
  align-items: center;
  padding: 0.25rem 0;
  border-bottom: 1px solid var(--hair);
}
</style>
