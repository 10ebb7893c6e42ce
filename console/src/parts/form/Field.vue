<script setup lang="ts">
/** The frame of a field: its label, what it is for, and what is wrong with it. */
defineProps<{
  id: string
  label: string
  hidden?: boolean
  help?: string
  problem?: string
  required?: boolean
}>()
</script>

<template>
  <div :class="hidden ? 'bare' : 'field'">
    <label v-if="!hidden" :id="`${id}-label`" :for="id">{{ label }}</label>
    <slot />
    <small v-if="help || problem || $slots.help" :id="`${id}-about`">
      <span v-if="problem" class="problem" role="alert">▲ {{ problem }} </span>
      <slot name="help">{{ help }}</slot>
    </small>
  </div>
</template>

<style scoped>
.bare {
  display: inline-flex;
  flex-direction: column;
  min-width: 0;
}

.problem {
  color: var(--signal);
}
</style>
