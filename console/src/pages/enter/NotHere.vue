<script setup lang="ts">
import Door from './Door.vue'
</script>

<template>
  <Door title="There is nothing here" about="The address may be mistyped, or what stood here was removed.">
    <RouterLink to="/board">To the board</RouterLink>
  </Door>
</template>
