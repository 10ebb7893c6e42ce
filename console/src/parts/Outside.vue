<script setup lang="ts">
/** A text that leads to a page of the other side, in a tab of its own, where there is one. */
defineProps<{ to?: string; text: string }>()
</script>

<template>
  <a v-if="to" :href="to" target="_blank" rel="noopener">{{ text }}</a><template v-else>{{ text }}</template>
</template>
