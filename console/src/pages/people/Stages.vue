<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import RevokeDialog from '../badges/RevokeDialog.vue'
import { plansOf } from './plans'

/** Where a person stands in the stage plans that are about them, what lies ahead included. */
const props = defineProps<{ person: string; awards: Schemas['Award'][] }>()
const list = useQuery(plansOf(() => props.person))
const revoking = ref<Schemas['Award']>()
const queries = useQueryClient()
const approve = useMutation({
  mutationFn: (a: { id: string; approvalId: string; withdraw: boolean }) =>
    ok(
      api.POST('/api/v1/stage-plans/{id}/approvals', {
        params: { path: { id: a.id } },
        body: { approvalId: a.approvalId, withdraw: a.withdraw, people: [props.person] },
      }),
    ),
  onSuccess: () => queries.invalidateQueries(),
})
const sign = (s: Schemas['StageProgress']) =>
  s.reached ? $t('people.reached') : s.open ? $t('people.open') : $t('people.ahead')
const held = (s: Schemas['StageProgress']) =>
  props.awards.find((a) => a.badgeId === s.badgeId && !a.revokedAt)
</script>

<template>
  <Oops :error="list.error.value ?? approve.error.value" />
  <section v-for="p in list.data.value" :key="p.id">
    <h2>
      <RouterLink :to="`/stage-plans/${p.id}`">{{ p.name }}</RouterLink> · {{ p.course }} ·
      {{ p.finished ? $t('people.finished') : `${p.percent} %` }}
    </h2>
    <table class="sheet">
      <tbody>
        <tr v-for="s in p.stages" :key="s.stageId" :class="{ ahead: !s.reached && !s.open }">
          <td class="sign">{{ sign(s) }}</td>
          <td class="title">
            {{ s.title }} <span v-if="s.optional" class="faint">{{ $t('people.optional') }}</span>
            <small v-if="s.reachedAt" class="faint">{{ when(s.reachedAt) }}</small>
          </td>
          <td>
            <div v-for="c in s.criteria" :key="c.text">
              {{ c.met ? '●' : '○' }} {{ c.text }}
              <template v-for="a in c.approvals" :key="`by-${a.id}`">
                <small v-if="a.given" class="faint"
                  >{{ $t('people.approvedBy', { by: a.by ?? '', at: when(a.at) })
                  }}<template v-if="a.note">: {{ a.note }}</template></small
                >
              </template>
              <Button
                v-for="a in c.approvals"
                :key="a.id"
                size="small"
                variant="text"
                :loading="approve.isPending.value"
                :label="a.given ? $t('people.withdrawApproval') : $t('people.approve')"
                :aria-label="
                  a.given
                    ? $t('people.withdrawApprovalOf', { what: a.what })
                    : $t('people.approveWhat', { what: a.what })
                "
                @click="approve.mutate({ id: p.id, approvalId: a.id, withdraw: a.given })"
              />
            </div>
          </td>
          <td class="badge">
            <template v-if="s.badge">
              <span v-if="s.holds && !s.reached" class="urgent"
                >{{ $t('people.holdsBadgeThoughNotReached', { badge: s.badge }) }}
                <Button
                  v-if="held(s)"
                  size="small"
                  variant="text"
                  :label="$t('people.revoke')"
                  @click="revoking = held(s)"
              /></span>
              <template v-else-if="s.holds">{{ $t('people.badge', { badge: s.badge }) }}</template>
              <span v-else class="faint">{{
                s.reached
                  ? $t('people.badgeNotAwarded', { badge: s.badge })
                  : $t('people.givesBadge', { badge: s.badge })
              }}</span>
            </template>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
  <RevokeDialog v-if="revoking" :award="revoking" @close="revoking = undefined" />
</template>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
}

td {
  padding: 0.35rem 0.7rem;
  border-bottom: 1px solid var(--hair);
  vertical-align: top;
}

.sign {
  width: 6.5rem;
}

.title {
  width: 15rem;
}

.badge {
  width: 30rem;
}

small {
  display: block;
}

.ahead {
  color: var(--faint);
}

.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
