<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** Providers at which somebody can sign in, or does. */
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['own-providers'],
  queryFn: () => ok(api.GET('/api/v1/session/providers')),
})
const ways = useQuery({
  queryKey: ['ways-in'],
  queryFn: () => ok(api.GET('/api/v1/session/ways')),
  refetchOnWindowFocus: false, // why it was refused is said once
  refetchOnReconnect: false,
})
const end = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/session/providers/{id}', { params: { path: { id } } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['own-providers'] }),
})
</script>

<template>
  <template v-if="list.data.value?.items.length">
    <h2>{{ $t('mine.providers') }}</h2>
    <Oops
      :error="ways.data.value?.refused ? new Error(ways.data.value.refused) : (end.error.value ?? null)"
    />
    <ul class="ways">
      <li v-for="p in list.data.value.items" :key="p.id">
        <b>{{ p.name }}</b>
        <template v-if="p.signedInAt">
          <span class="faint"
            >{{ p.email }}, {{ $t('settings.signedInAt', { at: when(p.signedInAt) }) }}</span
          >
          <Button
            size="small"
            variant="text"
            :label="$t('mine.endWay')"
            :aria-label="$t('mine.endWayOf', { name: p.name })"
            @click="end.mutate(p.id)"
          />
        </template>
        <Button
          v-else
          as="a"
          size="small"
          variant="outlined"
          :label="$t('mine.addWay', { name: p.name })"
          :href="`/providers/${p.id}/sign-in?then=/account&add=1`"
        />
      </li>
    </ul>
  </template>
</template>

<style scoped>
.ways {
  margin: 0;
  padding: 0;
  list-style: none;
}

li {
  display: flex;
  flex-wrap: wrap;
  gap: 0.8rem;
  align-items: center;
  padding: 0.2rem 0;
}

a {
  text-decoration: none;
}
</style>
