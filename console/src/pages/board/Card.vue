<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import Counts from '../../parts/Counts.vue'
import TickField from '../../parts/form/TickField.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'

const props = defineProps<{ section: Schemas['Section']; chosen: boolean }>()
const emit = defineEmits<{ toggle: [] }>()
const to = computed(() =>
  props.section.pairingId
    ? `/pairings/${props.section.pairingId}`
    : { path: '/sections', query: { pair: props.section.id } },
)
</script>

<template>
  <RouterLink class="card sheet" :class="{ chosen }" :to="to">
    <TickField
      :model-value="chosen"
      hidden
      :label="$t('common.choose', { title: section.title })"
      @click.stop.prevent="emit('toggle')"
    />
    <span class="title">{{ section.title }}</span>
    <span v-if="section.set" class="line">{{ section.set.sections.map((s) => s.code).join(' + ') }}</span>
    <span class="faint line">
      {{
        [
          section.list && $t('board.peopleList'),
          section.course !== section.title && section.course,
          section.terms.join(', '),
          $t('board.learners', { learners: section.learners }),
        ]
          .filter(Boolean)
          .join(' · ')
      }}
    </span>
    <span v-if="section.alike" class="line">{{
      [section.organisation, section.code, section.teachers.join(', ')].filter(Boolean).join(' · ')
    }}</span>
    <span v-if="section.target" class="line"
      >→ {{ section.target }}
      <span class="faint">{{ $t('board.at', { interface: section.interface }) }}</span></span
    >
    <Counts v-if="section.pairingId" :counts="section.counts" />
    <span v-if="section.state === 'held'" class="line">
      {{ $t('board.learnersWaiting', { waiting: section.counts?.waiting })
      }}<template v-if="section.opensAt">{{ $t('board.opens', { opensAt: when(section.opensAt) }) }}</template
      ><template v-else>{{ $t('board.notOpened') }}</template>
    </span>
    <span v-if="section.running" class="line"><Signal state="running" /></span>
    <span v-if="section.ranAt" class="faint line"
      >{{ $t('board.lastRun', { ranAt: when(section.ranAt) })
      }}<template v-if="section.nextRun">{{
        $t('board.next', { nextRun: when(section.nextRun) })
      }}</template></span
    >
    <span
      v-if="section.pairingId && section.next && section.state !== 'held' && !section.running"
      class="line next"
      >→ {{ section.next }}</span
    >
    <span v-if="!section.pairingId" class="line next">{{ section.teachers.join(', ') }}</span>
  </RouterLink>
</template>

<style scoped>
.card {
  display: block;
  text-decoration: none;
  padding: 0.6rem 0.75rem;
  margin-top: 0.5rem;
}

.card:hover {
  border-color: var(--ink);
}

.chosen {
  border-color: var(--ink);
  background: var(--hair);
}

.tick {
  float: inline-end;
  opacity: 0.5;
}

.card:hover .tick,
.chosen .tick,
.tick:focus-within {
  opacity: 1;
}

.title {
  font: 400 1.02rem/1.25 var(--serif);
  display: block;
}

.line {
  display: block;
  font-size: 12px;
}
</style>
