<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'

/** What somebody said of a person's record, which can be dropped again. */
const props = defineProps<{ person: string; mark: Schemas['Mark'] }>()
const queries = useQueryClient()
const drop = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/people/{id}/mark', { params: { path: { id: props.person } } })),
  onSuccess: () => queries.invalidateQueries(),
})
const words: Record<Schemas['Mark']['kind'], string> = {
  second: $t('people.thisRecordIsSecond'),
  test: $t('people.thisRecordIsTestLearner'),
  neither: $t('people.thisRecordIsNeitherSecond'),
}
</script>

<template>
  <p class="mark">
    <i18n-t keypath="people.says" scope="global"
      ><template #words>{{ words[mark.kind] }}</template
      ><template #more
        ><template v-if="mark.ofId"
          >{{ ' ' }}{{ $t('people.of') }}
          <RouterLink :to="`/people/${mark.ofId}`">{{ mark.of }}</RouterLink></template
        ></template
      ><template #decidedBy>{{ mark.decidedBy }}</template
      ><template #decidedAt>{{ when(mark.decidedAt) }}</template></i18n-t
    >{{ ' '
    }}<Button
      size="small"
      variant="text"
      :label="$t('people.dropThat')"
      :loading="drop.isPending.value"
      @click="drop.mutate()"
    />
  </p>
  <Oops :error="drop.error.value" />
</template>

<style scoped>
.mark {
  margin: 0;
}
</style>
