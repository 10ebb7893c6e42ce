<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import { here } from '../../parts/address'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { may, mayAll } from '../../shell/may'
import AwardDialog from './AwardDialog.vue'
import BadgeForm from './BadgeForm.vue'
import DrawDialog from './DrawDialog.vue'
import ModuleBadge from './ModuleBadge.vue'
import PictureDialog from './PictureDialog.vue'
import RevokeDialog from './RevokeDialog.vue'

const badges = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })
const awards = useQuery({ queryKey: ['awards'], queryFn: () => ok(api.GET('/api/v1/awards')) })
const queries = useQueryClient()
const remove = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/badges/{id}', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['badges'] }),
})
const restore = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/awards/{id}/restore', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries(),
})
const form = ref(false)
const forModule = ref(false)
const editing = ref<Schemas['Badge']>()
const setState = useMutation({
  mutationFn: (x: { badge: Schemas['Badge']; state: 'published' | 'withdrawn' }) =>
    ok(
      api.PATCH('/api/v1/badges/{id}', {
        params: { path: { id: x.badge.id }, header: ifMatch(x.badge.revision) },
        body: { state: x.state },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ['badges'] }),
})
// The badge itself is looked up in the list, which tells of its new picture.
const picturing = ref('')
const pictured = computed(() => badges.data.value?.items.find((b) => b.id === picturing.value))
const drawing = ref<Schemas['Badge']>()
const begin = useQuery({
  queryKey: ['badge-drawing', () => drawing.value?.id],
  queryFn: () => ok(api.GET('/api/v1/badges/{id}/drawing', { params: { path: { id: drawing.value!.id } } })),
  enabled: () => !!drawing.value,
  gcTime: 0,
})
function draw(badge: Schemas['Badge']) {
  picturing.value = ''
  drawing.value = badge
}
const awarding = ref<Schemas['Badge']>()
const revoking = ref<Schemas['Award']>()
const suspends = ref(false)
function doubt(award: Schemas['Award'], suspend: boolean) {
  suspends.value = suspend
  revoking.value = award
}
</script>

<template>
  <PageHead :title="$t('common.badges')" :about="$t('badges.openBadges30Signed')">
    <template v-if="mayAll('badges')">
      <Button
        size="small"
        variant="outlined"
        :label="$t('badges.forModuleDialog')"
        @click="forModule = true"
      />
      <Button size="small" :label="$t('badges.makeBadgeDialog')" @click="form = true" />
    </template>
  </PageHead>
  <Listing
    :rows="badges.data.value?.items"
    :loading="badges.isLoading.value"
    :error="badges.error.value"
    :again="badges.refetch"
    :empty="$t('badges.noBadgeYetMakeOne')"
  >
    <Column :header="$t('badges.badge')">
      <template #body="{ data }"
        ><span class="named"
          ><img :src="here(data.picture)" alt="" class="picture" /> {{ data.name }}</span
        ></template
      >
    </Column>
    <Column :header="$t('common.state')">
      <template #body="{ data }"
        ><b v-if="data.state !== 'published'">{{ word(`badge-${data.state}`) }}</b
        ><template v-else>{{ word('badge-published') }}</template>
        <small v-if="data.version > 1" class="faint below">{{
          $t('badges.versionNo', { n: data.version })
        }}</small></template
      >
    </Column>
    <Column field="issuer" :header="$t('badges.issuer')" />
    <Column field="description" :header="$t('badges.whatItIsFor')" />
    <Column field="criteria" :header="$t('badges.whatItTakes')" />
    <Column :header="$t('badges.heldBy')">
      <template #body="{ data }"
        >{{ data.awards
        }}<span v-if="data.revoked" class="faint">{{
          $t('badges.revoked', { revoked: data.revoked })
        }}</span></template
      >
    </Column>
    <Column header="">
      <template #body="{ data }">
        <Button
          v-if="mayAll('badges')"
          size="small"
          variant="text"
          :label="$t('badges.change')"
          :aria-label="$t('badges.changeBadge', { name: data.name })"
          @click="editing = data"
        />
        <Button
          v-if="mayAll('badges')"
          size="small"
          variant="text"
          :label="data.state === 'published' ? $t('badges.withdraw') : $t('badges.publish')"
          :aria-label="
            data.state === 'published'
              ? $t('badges.withdrawOf', { name: data.name })
              : $t('badges.publishOf', { name: data.name })
          "
          @click="
            setState.mutate({ badge: data, state: data.state === 'published' ? 'withdrawn' : 'published' })
          "
        />
        <Button
          v-if="data.state === 'published' && may('award')"
          size="small"
          variant="text"
          :label="$t('badges.award')"
          :aria-label="$t('badges.awardOf', { name: data.name })"
          @click="awarding = data"
        />
        <Button
          v-if="mayAll('badges')"
          size="small"
          variant="text"
          :label="$t('badges.picture')"
          :aria-label="$t('badges.pictureOf', { name: data.name })"
          @click="picturing = data.id"
        />
        <Button
          v-if="!data.awards && !data.revoked && mayAll('badges')"
          size="small"
          variant="text"
          :label="$t('common.remove')"
          :aria-label="$t('badges.removeBadge', { name: data.name })"
          :loading="remove.isPending.value && remove.variables.value === data.id"
          @click="remove.mutate(data.id)"
        />
      </template>
    </Column>
  </Listing>
  <Oops :error="remove.error.value ?? setState.error.value" />
  <h2>{{ $t('badges.awards') }}</h2>
  <Listing
    :rows="awards.data.value?.items"
    :loading="awards.isLoading.value"
    :error="awards.error.value"
    :again="awards.refetch"
    :empty="$t('badges.nobodyHasBeenAwardedYet')"
    :next="mayAll('rules') ? { to: '/rules', text: $t('badges.makeRuleThatAwardsOne') } : undefined"
  >
    <Column :header="$t('common.at')"
      ><template #body="{ data }"
        ><span class="faint">{{ when(data.awardedAt) }}</span></template
      ></Column
    >
    <Column field="person" :header="$t('common.person')" />
    <Column field="badge" :header="$t('badges.badge')" />
    <Column :header="$t('badges.publicPage')">
      <template #body="{ data }"
        ><a :href="data.address" target="_blank" rel="noopener">{{ data.address }}</a></template
      >
    </Column>
    <Column header="">
      <template #body="{ data }">
        <span v-if="data.renewedAt" class="faint">{{
          $t('badges.renewedAt', { at: when(data.renewedAt) })
        }}</span>
        <span v-if="data.revokedAt || data.suspendedAt" class="revoked"
          >{{
            data.revokedAt
              ? $t('badges.revokedRevokedAt', { revokedAt: when(data.revokedAt), reason: data.reason })
              : $t('badges.suspendedSuspendedAt', {
                  suspendedAt: when(data.suspendedAt),
                  reason: data.suspendedReason,
                })
          }}<Button
            v-if="may('award')"
            size="small"
            variant="text"
            :label="$t('badges.restore')"
            :aria-label="$t('badges.restoreOf', { badge: data.badge, person: data.person })"
            :loading="restore.isPending.value && restore.variables.value === data.id"
            @click="restore.mutate(data.id)"
        /></span>
        <Button
          v-if="!data.revokedAt && !data.suspendedAt && may('award')"
          size="small"
          variant="text"
          :label="$t('badges.suspend')"
          :aria-label="$t('badges.suspendOf', { badge: data.badge, person: data.person })"
          @click="doubt(data, true)"
        />
        <Button
          v-if="!data.revokedAt && may('award')"
          size="small"
          variant="text"
          :label="$t('badges.revoke')"
          :aria-label="$t('badges.revokeOf', { badge: data.badge, person: data.person })"
          @click="doubt(data, false)"
        />
      </template>
    </Column>
  </Listing>
  <Oops :error="restore.error.value" />
  <PictureDialog v-if="pictured" :badge="pictured" @close="picturing = ''" @draw="draw(pictured)" />
  <Oops :error="begin.error.value" />
  <DrawDialog
    v-if="drawing && begin.data.value"
    :badge="drawing"
    :begin="begin.data.value.design"
    :others="badges.data.value?.items ?? []"
    @close="drawing = undefined"
  />
  <AwardDialog v-if="awarding" :badge="awarding" @close="awarding = undefined" />
  <ModuleBadge v-if="forModule" @close="forModule = false" />
  <BadgeForm v-if="form" @close="form = false" />
  <BadgeForm v-if="editing" :badge="editing" @close="editing = undefined" />
  <RevokeDialog v-if="revoking" :award="revoking" :suspends="suspends" @close="revoking = undefined" />
</template>

<style scoped>
.named {
  display: flex;
  gap: 0.6rem;
  align-items: center;
}

.picture {
  width: 2.2rem;
  height: 2.2rem;
  object-fit: contain;
}

.revoked {
  color: var(--signal);
}
</style>
