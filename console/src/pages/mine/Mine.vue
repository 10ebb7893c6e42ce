<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** What somebody sees of themselves: their sections, how far they have come, and their badges. */
const page = useQuery({ queryKey: ['mine'], queryFn: () => ok(api.GET('/api/v1/session/page')) })
const state = (a: Schemas['Award']) =>
  a.revokedAt
    ? $t('mine.revoked')
    : a.suspendedAt
      ? $t('mine.suspended')
      : a.validUntil
        ? $t('mine.validUntil', { at: when(a.validUntil) })
        : ''
</script>

<template>
  <PageHead :title="$t('shell.mine')" :about="$t('mine.about')" />
  <Oops :error="page.error.value" />
  <template v-if="page.data.value">
    <h2>{{ $t('common.sections') }}</h2>
    <p v-if="!page.data.value.sections.length" class="faint">{{ $t('mine.noSection') }}</p>
    <div v-for="s in page.data.value.sections" :key="s.id" class="sheet one">
      <h3>
        {{ s.section }} <span class="faint">{{ s.course }} · {{ word(s.role) }}</span>
      </h3>
      <p class="faint">
        {{
          s.leftAt
            ? $t('mine.left', { at: when(s.leftAt) })
            : s.beginsOn
              ? $t('mine.begins', { at: when(s.beginsOn) })
              : $t('mine.since', { at: when(s.joinedAt) })
        }}
      </p>
      <template v-if="s.progress">
        <label
          >{{ $t('mine.done', { percent: s.progress.percent }) }}
          <progress max="100" :value="s.progress.percent" />
        </label>
        <ul>
          <li v-for="m in s.progress.modules" :key="m.id">
            {{ m.done ? '●' : '○' }} {{ m.title || m.id }}
            <span v-if="m.optional" class="faint">{{ $t('people.optional') }}</span>
          </li>
        </ul>
      </template>
    </div>
    <h2>{{ $t('common.badges') }}</h2>
    <p v-if="!page.data.value.awards.length" class="faint">{{ $t('mine.noBadge') }}</p>
    <ul class="sheet one">
      <li v-for="a in page.data.value.awards" :key="a.id">
        <a :href="a.address">{{ a.badge }}</a>
        <span class="faint"> {{ when(a.awardedAt) }} {{ state(a) }}</span>
      </li>
    </ul>
    <template v-for="p in page.data.value.plans" :key="p.id">
      <h2>{{ p.name }} · {{ p.course }} · {{ p.finished ? $t('people.finished') : `${p.percent} %` }}</h2>
      <ul class="sheet one">
        <li v-for="g in p.stages" :key="g.stageId">{{ g.reached ? '●' : '○' }} {{ g.title }}</li>
      </ul>
    </template>
  </template>
</template>

<style scoped>
.one {
  padding: 0.4rem 0.9rem 0.7rem;
  margin: 0.4rem 0;
}

.one:empty {
  display: none;
}

h3 {
  margin: 0.3rem 0 0;
}

p {
  margin: 0.1rem 0 0.4rem;
}

ul {
  margin: 0.3rem 0 0;
  padding-inline-start: 0.9rem;
  list-style: none;
}

progress {
  width: min(20rem, 60vw);
  accent-color: var(--signal);
}
</style>
