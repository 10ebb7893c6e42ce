<script setup lang="ts">
import InputText from 'primevue/inputtext'

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
    <InputText
      id="name"
      v-model="draft.name"
      :invalid="'name' in wrong"
      placeholder="By which people know it"
    />
    <small v-if="wrong.name" class="problem">{{ wrong.name }}</small>
  </div>
  <div class="field">
    <label for="owner">Owner</label>
    <InputText id="owner" v-model="draft.owner" :invalid="'owner' in wrong" autocomplete="off" />
    <small>Optional: who minds the system, for example IT desk</small>
  </div>
  <div class="field">
    <label for="site">Address</label>
    <InputText id="site" v-model="draft.address" :invalid="'address' in wrong" autocomplete="off" />
    <small v-if="wrong.address" class="problem">{{ wrong.address }}</small>
    <small
      >Optional: where people open it, for example https://platform.school.example. Addresses of its
      interfaces may then be given as a path</small
    >
  </div>
  <details>
    <summary>Limits and notes</summary>
    <div v-for="[name, title, help] in limits" :key="name" class="field">
      <label :for="name">{{ title }}</label>
      <InputText
        :id="name"
        v-model="draft[name]"
        inputmode="numeric"
        :invalid="name in wrong"
        placeholder="no limit"
      />
      <small v-if="wrong[name]" class="problem">{{ wrong[name] }}</small>
      <small>{{ help }}</small>
    </div>
    <div class="field">
      <label for="notes">Notes</label>
      <textarea id="notes" v-model="draft.notes" rows="3" />
    </div>
  </details>
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
