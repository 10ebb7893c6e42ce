<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import RadioButton from 'primevue/radiobutton'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'

/** Classes of a service by how likely each is the section's counterpart, and why. */
const props = defineProps<{ sectionId: string; interfaceId: string }>()
const chosen = defineModel<string>({ required: true })
const list = useQuery({
  queryKey: ['candidates', () => props.sectionId, () => props.interfaceId],
  queryFn: () =>
    ok(
      api.GET('/api/v1/sections/{id}/candidates', {
        params: { path: { id: props.sectionId }, query: { interface: props.interfaceId } },
      }),
    ),
})
</script>

<template>
  <Oops :error="list.error.value" :again="list.refetch" />
  <p v-if="list.isLoading.value" class="faint" aria-busy="true">
    {{ $t('sections.lookingAtServicesClasses') }}
  </p>
  <p v-else-if="list.data.value && !list.data.value.length" class="faint">
    {{ $t('sections.serviceHasNoClassYet') }}
  </p>
  <div v-else class="list" role="radiogroup" :aria-label="$t('sections.classesAtService')">
    <label v-for="c in list.data.value" :key="c.ref" :class="{ off: c.remarks.some((r) => r.blocks) }">
      <RadioButton
        v-model="chosen"
        name="candidate"
        :value="c.ref"
        :disabled="c.remarks.some((r) => r.blocks)"
      />
      <span class="score" :title="$t('sections.evidenceOf100', { score: c.score })"
        ><i :style="{ width: `${c.score}%` }"
      /></span>
      <span>
        {{ c.name }}
        <small class="faint">
          <i18n-t keypath="sections.inCommonMissingOthers" scope="global"
            ><template #shared>{{ c.shared }}</template
            ><template #more
              ><template v-if="c.teachers">{{
                $t('sections.ofItsTeachers', { teachers: c.teachers })
              }}</template></template
            ><template #missing>{{ c.missing }}</template
            ><template #others>{{ c.others }}</template
            ><template #saysTerm
              ><template v-if="c.term">{{ $t('sections.saysTerm') }}</template></template
            ></i18n-t
          >
        </small>
        <small v-for="r in c.remarks" :key="r.code" :class="r.blocks ? 'bad' : 'warn'">
          {{ r.blocks ? '▲' : '◐' }} {{ r.detail }}
        </small>
      </span>
    </label>
  </div>
</template>

<style scoped>
.list {
  max-height: 20rem;
  overflow-y: auto;
  border-top: 1px solid var(--hair);
}

label {
  display: grid;
  grid-template-columns: 1.2rem 5rem 1fr;
  gap: 0.6rem;
  align-items: start;
  padding: 0.4rem 0;
  border-bottom: 1px solid var(--hair);
}

.off {
  color: var(--faint);
}

.score {
  height: 7px;
  margin-top: 0.4rem;
  background: var(--hair);
}

.score i {
  display: block;
  height: 100%;
  background: var(--calm);
}

small {
  display: block;
}

.bad {
  color: var(--signal);
}
</style>
