<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'

import Oops from '../../parts/Oops.vue'
import { me } from '../../shell/may'
import { hideNames, showNames } from '../../shell/seen'

/** One switch that hides who people are, to show the screen to others. */
const flip = useMutation({ mutationFn: () => (me.value?.namesHidden ? showNames() : hideNames()) })
</script>

<template>
  <h2>{{ $t('mine.names') }}</h2>
  <p class="faint">
    {{ me?.seesNames === false ? $t('shell.namesAreHiddenForRole') : $t('mine.namesAbout') }}
  </p>
  <Button
    v-if="me?.seesNames !== false"
    size="small"
    variant="outlined"
    :label="me?.namesHidden ? $t('shell.showNames') : $t('mine.hideNames')"
    :loading="flip.isPending.value"
    @click="flip.mutate()"
  />
  <Oops :error="flip.error.value" />
</template>
