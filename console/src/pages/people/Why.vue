<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import { people, person as personOf } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'
import InShort from './InShort.vue'
import WhyNot from './WhyNot.vue'

/** Answers questions about somebody: find them, see where they are not and why, ask about anything else. */
const address = useAddress()
const id = address.kept('person')
const thing = address.kept('thing')
const person = useQuery({
  queryKey: ['events', 'person', id],
  queryFn: () => ok(api.GET('/api/v1/people/{id}', { params: { path: { id: id.value } } })),
  enabled: computed(() => !!id.value),
})
const p = computed(() => (id.value ? person.data.value : undefined))
// What was asked about one person is not asked about the next.
const asked = ref(id.value)
watch(id, (now) => {
  if (asked.value && now !== asked.value) thing.value = ''
  asked.value = now
})
</script>

<template>
  <PageHead :title="$t('shell.why')" :about="$t('people.whyAboutPage')">
    <template v-if="p">
      <RouterLink :to="`/people/${p.id}`">{{ $t('people.everythingAbout', { name: p.name }) }}</RouterLink>
    </template>
  </PageHead>
  <div class="field">
    <label for="why-person">{{ $t('people.whyWho') }}</label>
    <Finder
      v-model="id"
      input-id="why-person"
      :first="!id"
      :label="$t('people.nameAddressOrIdentifier')"
      :search="people"
      :named="personOf"
    />
  </div>
  <Oops v-if="id" :error="person.error.value" :again="person.refetch" />
  <template v-if="p">
    <p class="who">
      <b>{{ p.name }}</b>
      <span class="faint">{{
        [p.email || $t('people.noEMailAddress'), p.userName, p.identifier].filter(Boolean).join(' · ')
      }}</span>
    </p>
    <InShort :person="p" />
    <WhyNot :key="p.id" v-model:thing="thing" :person="p.id" :name="p.name" />
  </template>
</template>

<style scoped>
.who {
  margin: 0.8rem 0 0.4rem;
}

.who span {
  margin-inline-start: 0.6rem;
}

.field :deep(input) {
  width: 22rem;
  max-width: 100%;
}
</style>
