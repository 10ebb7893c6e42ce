<script setup lang="ts">
import Fold from '../../parts/Fold.vue'
import AreaField from '../../parts/form/AreaField.vue'
import TextField from '../../parts/form/TextField.vue'

/** What holds for a whole outside system. */
defineProps<{ wrong: Record<string, string> }>()
const draft = defineModel<{
  name: string
  owner: string
  address: string
  notes: string
  atOnce: string
  perMinute: string
  restAfter: string
}>({ required: true })
const limits = [
  ['atOnce', 'Calls at once', 'Optional: through all its interfaces together'],
  ['perMinute', 'Calls a minute', 'Optional: through all its interfaces together'],
  ['restAfter', 'Rests after', 'Optional: failures in a row after which it is left alone for a while'],
] as const
</script>

<template>
  <div class="field">
    <label for="name">Name</label>
    <TextField
      id="name"
      v-model="draft.name"
      hidden
      label="Name"
      :problem="wrong.name"
      placeholder="By which people know it"
    />
  </div>
  <TextField
    id="owner"
    v-model="draft.owner"
    autocomplete="off"
    name="owner"
    label="Owner"
    help="Optional: who minds the system, for example IT desk"
  />
  <div class="field">
    <label for="site">Address</label>
    <TextField id="site" v-model="draft.address" hidden label="Address" :problem="wrong.address" />
    <small
      >Optional: where people open it, for example https://platform.school.example. Addresses of its
      interfaces may then be given as a path</small
    >
  </div>
  <Fold title="Limits and notes">
    <TextField
      v-for="[name, title, help] in limits"
      :id="name"
      :key="name"
      v-model="draft[name]"
      :label="title"
      :problem="wrong[name]"
      :help="help"
      placeholder="no limit"
    />
    <AreaField id="notes" v-model="draft.notes" :rows="3" label="Notes" />
  </Fold>
</template>

<style scoped>
summary {
  cursor: pointer;
  margin-bottom: 0.5rem;
}

details {
  margin-bottom: 0.8rem;
}

.problem {
  color: var(--signal);
}
</style>
