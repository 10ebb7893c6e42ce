<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { inClass } from './inclass'

/** Where somebody is not, why, and who can mend it; and where they are. */
const props = defineProps<{ person: Schemas['PersonPage'] }>()
const places = computed(() => props.person.sections.filter((s) => !s.leftAt && s.class.state !== 'no-class'))
const out = computed(() => places.value.filter((s) => s.class.state !== 'in' && s.class.state !== 'gone'))
const inside = computed(() => places.value.filter((s) => s.class.state === 'in'))
</script>

<template>
  <section class="sheet answer" :aria-label="$t('people.inShort')">
    <p v-for="s in out" :key="s.sectionId">
      <b :class="{ urgent: s.class.state === 'not-in' }"
        >{{ inClass[s.class.state as keyof typeof inClass] }}:
        <RouterLink v-if="s.pairingId" :to="`/pairings/${s.pairingId}`">{{ s.section }}</RouterLink><template
          v-else
          >{{ s.section }}</template
        ></b
      ><template v-if="s.class.why">{{
        $t('people.because', { why: s.class.why.replace(/\.$/, '') })
      }}</template
      >. {{ s.class.remedy }}{{ ' ' }}
      <span v-if="s.class.owner && s.class.owner !== 'nobody'" class="faint">{{
        $t('people.whoCanMendIt', { owner: s.class.owner })
      }}</span>
    </p>
    <p v-if="inside.length">
      {{
        $t(
          'people.in',
          { n: inside.length, classes: inside.map((s) => s.target || s.section).join(', ') },
          inside.length,
        )
      }}
    </p>
    <p v-if="!places.length" class="faint">
      {{
        person.sections.some((s) => !s.leftAt)
          ? $t('people.noneOfTheirSectionsIs')
          : $t('people.theyAreInNoSection')
      }}
    </p>
  </section>
</template>

<style scoped>
.answer {
  border-inline-start: 3px solid var(--ink);
  padding: 0.5rem 0.9rem;
}

p {
  margin: 0.2rem 0;
}

.urgent {
  color: var(--signal);
}
</style>
