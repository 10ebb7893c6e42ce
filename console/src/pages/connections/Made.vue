<script setup lang="ts">
import Button from 'primevue/button'

/** What was made for the other side of an interface; shown once. */
defineProps<{ name?: string; made: Record<string, string> }>()
const copy = (text: string) => navigator.clipboard.writeText(text)
</script>

<template>
  <h3 v-if="name">{{ name }}</h3>
  <div v-for="(v, k) in made" :key="k" class="made">
    <span class="faint">{{ k }}</span> <code>{{ v }}</code>
    <Button
      size="small"
      variant="text"
      :label="$t('connections.copy')"
      :aria-label="$t('connections.copyK', { k })"
      @click="copy(v)"
    />
  </div>
</template>

<style scoped>
h3 {
  font: 400 1rem/1.2 var(--serif);
  margin: 0.8rem 0 0.2rem;
}

.made {
  display: grid;
  grid-template-columns: 5rem 1fr auto;
  gap: 0.6rem;
  align-items: center;
  padding: 0.2rem 0;
}

code {
  overflow-wrap: anywhere;
}
</style>
