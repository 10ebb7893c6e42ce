<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import AutoComplete from 'primevue/autocomplete'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import Frame from '../parts/form/Frame.vue'
import { anything, type Hit, type Hits } from './anything'

/** Finds a person, section, course, rule, connection or page by a part of its name. */
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const queries = useQueryClient()
const text = ref<string | Hit>('')
const found = ref<Hits[]>([])

let asked = 0
async function look(typed: string) {
  const mine = ++asked
  const all = await anything(typed, queries)
  if (mine === asked) found.value = all // an answer that comes late is about what is no longer typed
}

function go(hit: Hit) {
  if (!hit.to) return
  emit('close')
  void router.push(hit.to)
}
</script>

<template>
  <Frame :title="$t('common.find')" width="38rem" position="top" :typed="''" @close="emit('close')">
    <div class="find">
      <AutoComplete
        v-model="text"
        :suggestions="found"
        input-id="find-anything"
        :pt="{ pcInputText: { root: { autofocus: true } } }"
        :aria-label="$t('shell.personSectionCourseRuleConnection')"
        :placeholder="$t('shell.personSectionCourseRuleConnection')"
        option-label="label"
        option-group-label="title"
        option-group-children="items"
        :option-disabled="(h: Hit) => !h.to"
        :delay="150"
        :min-length="1"
        auto-option-focus
        fluid
        scroll-height="22rem"
        :empty-search-message="$t('shell.nothingFitsTryAnotherPart')"
        @complete="look($event.query)"
        @option-select="go($event.value as Hit)"
      >
        <template #option="{ option }"
          ><span
            >{{ option.label }} <span v-if="option.apart" class="faint">{{ option.apart }}</span></span
          ></template
        >
      </AutoComplete>
      <p class="faint">{{ $t('shell.arrowKeysChooseEnterOpens') }}</p>
    </div>
  </Frame>
</template>

<style scoped>
.find {
  min-height: 4.5rem;
}

p {
  font-size: 12.5px;
  margin: 0.5rem 0 0;
}
</style>
