<script setup lang="ts">
import Door from './Door.vue'
</script>

<template>
  <Door :title="$t('enter.thereIsNothingHere')" :about="$t('enter.addressMayBeMistypedOr')">
    <RouterLink to="/board">{{ $t('enter.toBoard') }}</RouterLink>
  </Door>
</template>
