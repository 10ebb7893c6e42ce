<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Finder from '../../parts/Finder.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'

/** Why something has happened to somebody, or has not: step by step, to the one at which it ended. */
const props = defineProps<{ person: string; name: string }>()
const thing = defineModel<string>('thing', { default: '' })
const search = async (text: string) => {
  const { items, total } = await ok(
    api.GET('/api/v1/people/{id}/things', { params: { path: { id: props.person }, query: { text } } }),
  )
  return {
    items: items.map((t) => ({
      id: `${t.kind}:${t.id}`,
      label: t.title,
      apart: [word(`thing-${t.kind}`), t.apart].filter(Boolean).join(', '),
    })),
    total: total ?? items.length,
  }
}
const asked = computed(() => {
  const at = thing.value.indexOf(':')
  return at < 0
    ? undefined
    : { kind: thing.value.slice(0, at) as Schemas['Thing']['kind'], thing: thing.value.slice(at + 1) }
})
const answer = useQuery({
  queryKey: ['events', 'why', () => props.person, thing],
  queryFn: () =>
    ok(
      api.GET('/api/v1/people/{id}/why', {
        params: { path: { id: props.person }, query: asked.value! },
      }),
    ),
  enabled: computed(() => !!asked.value),
})
const a = computed(() => (asked.value ? answer.data.value : undefined))
</script>

<template>
  <section class="why" :aria-label="$t('people.why')">
    <h2>{{ $t('people.why') }}</h2>
    <div class="field">
      <label for="why-thing">{{ $t('people.whyAbout', { name }) }}</label>
      <Finder v-model="thing" input-id="why-thing" :label="$t('people.whyThing')" :search="search" />
    </div>
    <Oops :error="answer.error.value" :again="answer.refetch" />
    <div v-if="a" class="sheet answer" role="status">
      <p>
        <b :class="{ urgent: !a.happened }">{{
          a.happened
            ? $t('people.whyYes', { thing: a.thing.title })
            : $t('people.whyNo', { thing: a.thing.title })
        }}</b>
      </p>
      <ol>
        <li v-for="(s, i) in a.steps" :key="i" :class="{ ended: !s.met }">
          <span aria-hidden="true">{{ s.met ? '●' : '○' }}</span>
          <span>
            <b>{{ s.needed }}</b>: {{ s.found }}<span v-if="s.at" class="faint"> · {{ when(s.at) }}</span>
            <span v-if="s.remedy" class="below">{{ s.remedy }}{{ ' ' }}</span>
            <span v-if="s.owner && s.owner !== 'nobody'" class="faint">{{
              $t('people.whoCanMendIt', { owner: s.owner })
            }}</span>
          </span>
        </li>
      </ol>
      <p v-if="a.again" class="faint">
        {{
          a.againAt
            ? $t('people.whyAgainAt', { again: a.again, at: when(a.againAt) })
            : $t('people.whyAgain', { again: a.again })
        }}
      </p>
    </div>
  </section>
</template>

<style scoped>
.answer {
  padding: 0.6rem 0.9rem;
}

.answer p {
  margin: 0;
}

ol {
  margin: 0.4rem 0;
  padding: 0;
  list-style: none;
}

li {
  display: flex;
  gap: 0.5rem;
  padding: 0.1rem 0;
}

.ended > span:first-child,
.urgent {
  color: var(--signal);
}

.below {
  display: block;
}
</style>
