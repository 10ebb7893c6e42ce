<script setup lang="ts">
defineProps<{ title: string; about?: string }>()
</script>

<template>
  <div class="head">
    <div>
      <h1>{{ title }}</h1>
      <p v-if="about || $slots.about" class="faint">
        <slot name="about">{{ about }}</slot>
      </p>
    </div>
    <div class="actions"><slot /></div>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: flex-end;
  gap: 1rem;
  margin-bottom: 1rem;
}

.actions {
  flex: none;
  max-width: 100%;
  flex-wrap: nowrap;
}

@media (max-width: 760px) {
  .head,
  .actions {
    flex-wrap: wrap;
  }
}

p {
  margin: 0.2rem 0 0;
}
</style>
