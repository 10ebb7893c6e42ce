<script setup lang="ts">
import type { Schemas } from '../../api/client'
import Signal from '../../parts/Signal.vue'

/** A section of a teacher's own in short: what they call it, how it is, and how many are missing. */
const props = defineProps<{ section: Schemas['TaughtSection'] }>()
const picture = () => `/api/v1/teaching/${props.section.own}/picture`
</script>

<template>
  <article class="sheet own" :aria-label="section.shortName || section.title">
    <img v-if="section.picture" :src="picture()" width="64" height="64" alt="" />
    <span v-else class="none" aria-hidden="true">{{ (section.shortName || section.title).slice(0, 1) }}</span>
    <div class="what">
      <RouterLink class="title" :to="`/teaching/${section.own}`">{{
        section.shortName || section.title
      }}</RouterLink>
      <span class="faint line">{{
        [
          section.shortName && section.title,
          section.set ? section.set.sections.map((s) => s.code).join(' + ') : section.code,
          section.terms.join(', '),
          $t('board.learners', { learners: section.learners }),
        ]
          .filter(Boolean)
          .join(' · ')
      }}</span>
      <span class="line"
        ><Signal :state="section.state" />
        <template v-if="section.missing">
          · {{ $t('teaching.missing', { n: section.missing }, section.missing) }}</template
        >
        <template v-if="section.waiting">
          · {{ $t('teaching.waiting', { n: section.waiting }, section.waiting) }}</template
        >
        <template v-if="section.tasks">
          · {{ $t('teaching.tasks', { n: section.tasks }, section.tasks) }}</template
        >
        <template v-if="section.percent !== undefined">
          · {{ $t('teaching.onAverage', { percent: section.percent }) }}</template
        >
      </span>
    </div>
    <div class="acts"><slot /></div>
  </article>
</template>

<style scoped>
.own {
  display: flex;
  align-items: center;
  gap: 1rem;
  padding: 0.6rem 0.9rem;
  margin-top: 0.6rem;
}

img,
.none {
  flex: none;
  width: 64px;
  height: 64px;
}

.none {
  display: grid;
  place-items: center;
  border: 1px solid var(--line);
  font: 400 1.8rem/1 var(--serif);
  color: var(--faint);
}

.what {
  flex: 1;
  min-width: 0;
}

.title {
  font: 400 1.15rem/1.3 var(--serif);
}

.line {
  display: block;
  font-size: 13px;
}

.acts {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
}
</style>
