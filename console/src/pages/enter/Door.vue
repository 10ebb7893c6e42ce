<script setup lang="ts">
/** The sheet on which people sign in or set up. */
defineProps<{ title: string; about?: string }>()
</script>

<template>
  <div class="door sheet">
    <p class="mark">
      <svg viewBox="0 0 16 16" width="16" height="16" aria-hidden="true">
        <path d="M1 1h4v14H1zM6 1h4v9H6zM11 1h4v5h-4z" fill="currentColor" />
      </svg>
      {{ $t('enter.kanban') }}
    </p>
    <h1>{{ title }}</h1>
    <p v-if="about" class="faint">{{ about }}</p>
    <slot />
  </div>
</template>

<style scoped>
.door {
  max-width: 24rem;
  margin: 12vh auto 0;
  padding: 2rem 2.2rem;
}

.mark {
  font: 400 1.05rem/1 var(--serif);
  display: flex;
  gap: 0.5rem;
  margin: 0 0 1.6rem;
}

h1 {
  margin-bottom: 1rem;
}
</style>
