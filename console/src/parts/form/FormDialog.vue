<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'

import { Problem } from '../../api/client'
import Oops from '../Oops.vue'
import { type Conflict, conflicts, spoken } from './conflict'
import Frame from './Frame.vue'

/** The frame of every dialog: its form, what is wrong, and the way out, which asks before what
 * was typed is dropped. */
const props = defineProps<{
  title: string
  /** What the button that sends it says; none without. */
  submit?: string
  /** What the button that closes it says. */
  cancel?: string
  width?: string
  sending?: boolean
  /** Not everything is there yet that is needed to send it. */
  unready?: boolean
  error?: Error | null
  again?: () => unknown
  /** Saves over what somebody else has changed meanwhile. */
  over?: (tag: string) => unknown
  /** What is typed. */
  typed?: unknown
  /** Reads what is edited as it is now, in the form of what is typed. */
  now?: () => Promise<unknown>
}>()
const emit = defineEmits<{ submit: []; close: [] }>()
const copy = (x: unknown) => (x === undefined ? undefined : (JSON.parse(JSON.stringify(x)) as unknown))
const was = copy(props.typed)
const stale = computed(() => props.error instanceof Problem && props.error.status === 412)
const changed = ref<Conflict[]>()
watch(stale, async (yes) => {
  changed.value = undefined
  if (!yes || !props.now) return
  try {
    changed.value = conflicts(was, copy(await props.now()), copy(props.typed))
  } catch {
    // What they changed cannot be looked at; that somebody did is said all the same.
  }
})
</script>

<template>
  <Frame
    v-slot="{ close }"
    :title="title"
    :width="width"
    :sending="sending"
    :error="error"
    :typed="typed"
    @close="emit('close')"
  >
    <form novalidate @submit.prevent="emit('submit')">
      <slot />
      <Oops :error="error ?? null" :again="again" :over="over" />
      <table v-if="changed?.length" class="conflicts">
        <caption>
          {{
            $t('form.whatOtherChanged')
          }}
        </caption>
        <thead>
          <tr>
            <th></th>
            <th>{{ $t('form.before') }}</th>
            <th>{{ $t('form.theirs') }}</th>
            <th>{{ $t('form.yours') }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in changed" :key="c.path">
            <th scope="row">{{ spoken(c.path) }}</th>
            <td>{{ c.was }}</td>
            <td>{{ c.theirs }}</td>
            <td>{{ c.yours }}</td>
          </tr>
        </tbody>
      </table>
      <div class="actions foot">
        <slot name="buttons" :close="close">
          <Button v-if="submit" type="submit" :label="submit" :loading="sending" :disabled="unready" />
          <Button
            type="button"
            variant="text"
            :label="cancel ?? (submit ? $t('common.cancel') : $t('common.close'))"
            @click="close"
          />
        </slot>
        <slot name="beside" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.foot {
  margin-top: 0.8rem;
}

.conflicts {
  width: 100%;
  border-collapse: collapse;
  font-size: 12.5px;
  margin: 0.4rem 0 0.8rem;
}

caption {
  text-align: start;
  font-weight: 600;
}

.conflicts th,
.conflicts td {
  text-align: start;
  vertical-align: top;
  font-weight: 400;
  padding: 0.2rem 0.6rem 0.2rem 0;
  border-top: 1px solid var(--hair);
  overflow-wrap: anywhere;
}

thead th {
  color: var(--faint);
}
</style>
