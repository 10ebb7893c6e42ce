<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import Outside from '../../parts/Outside.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { doing, happening } from '../../parts/triggers'
import { day, when } from '../../parts/when'
import { deliveryState } from '../../parts/words'
import { $t } from '../../texts'
import Accounts from './Accounts.vue'
import InShort from './InShort.vue'
import { inClass } from './inclass'
import Mark from './Mark.vue'
import Merged from './Merged.vue'
import { plansOf } from './plans'
import Progress from './Progress.vue'
import BadgesLink from './BadgesLink.vue'
import Scores from './Scores.vue'
import Stages from './Stages.vue'
import ViewAs from './ViewAs.vue'
import WhyNot from './WhyNot.vue'

const props = defineProps<{ id: string }>()
const person = useQuery({
  queryKey: ['events', 'person', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/people/{id}', { params: { path: { id: props.id } } })),
})
const p = computed(() => person.data.value)
const router = useRouter()
watch(p, (now) => {
  if (now && now.id !== props.id) void router.replace(`/people/${now.id}`) // they were merged, and have another id
})
const plans = useQuery(plansOf(() => props.id)) // what stands below must not move when they come
/** The section whose progress is shown activity by activity. */
const looked = ref<Schemas['Whereabouts']>()
const sections = computed(() => p.value?.sections.map((s, i) => ({ id: i, ...s })))
</script>

<template>
  <Oops :error="person.error.value" :again="person.refetch" />
  <template v-if="p && plans.isFetched.value">
    <PageHead :title="p.name">
      <template #about
        >{{ p.email || $t('people.noEMailAddress') }} · {{ p.userName }} · {{ p.identifier
        }}<template v-if="p.page"> · <Outside :to="p.page" :text="$t('people.inRegister')" /></template
      ></template>
      <ViewAs :person="p" />
    </PageHead>
    <Mark v-if="p.mark" :person="id" :mark="p.mark" />
    <InShort :person="p" />
    <WhyNot :person="p.id" :name="p.name" />
    <h2>{{ $t('people.sectionsNowAndBefore') }}</h2>
    <Listing :rows="sections" :loading="false" :error="null" :empty="$t('people.inNoSection')">
      <Column :header="$t('common.section')">
        <template #body="{ data }">
          <RouterLink v-if="data.pairingId" :to="`/pairings/${data.pairingId}`">{{
            data.section
          }}</RouterLink>
          <template v-else>{{ data.section }}</template>
          <span v-if="data.through" class="faint"
            >{{ ' ' }}{{ $t('people.bySecondAccount', { through: data.through }) }}</span
          >
          <span v-if="data.leftAt" class="faint"
            >{{ ' ' }}{{ $t('people.left', { leftAt: when(data.leftAt) }) }}</span
          >
          <span v-if="data.beginsOn" class="faint"
            >{{ ' ' }}{{ $t('people.beginsOn', { beginsOn: day(data.beginsOn) }) }}</span
          >
        </template>
      </Column>
      <Column field="course" :header="$t('common.course')" />
      <Column field="role" :header="$t('common.role')" />
      <Column :header="$t('people.since')">
        <template #body="{ data }"
          ><span v-if="!data.beginsOn" class="faint">{{
            data.from ? day(data.from) : when(data.joinedAt)
          }}</span></template
        >
      </Column>
      <Column :header="$t('people.classOutside')">
        <template #body="{ data }">
          {{ data.target }} <span v-if="data.class.service" class="faint">{{ data.class.service }}</span>
          <div v-if="data.class.state !== 'no-class'" :class="{ urgent: data.class.state === 'not-in' }">
            {{ inClass[data.class.state as keyof typeof inClass]
            }}<template v-if="data.class.state === 'in' && data.class.since"
              >{{ ' ' }}{{ $t('people.sinceSince', { since: when(data.class.since) }) }}</template
            ><template v-if="data.class.why">: {{ data.class.why }}</template>
          </div>
          <small v-if="data.class.remedy && data.class.state !== 'in'" class="faint"
            >{{ data.class.remedy
            }}<template v-if="data.class.owner && data.class.owner !== 'nobody'"
              >{{ ' ' }}{{ $t('people.whoCanDoIt', { owner: data.class.owner }) }}</template
            ></small
          >
        </template>
      </Column>
      <Column :header="$t('people.progress')">
        <template #body="{ data }">
          <progress
            v-if="data.percent !== undefined"
            :value="data.percent"
            max="100"
            :aria-label="`${data.percent} %`"
          />
          <Button
            v-if="data.percent !== undefined"
            variant="text"
            size="small"
            :label="`${data.percent} %`"
            :aria-expanded="looked?.sectionId === data.sectionId"
            :aria-label="$t('people.ofActivityByActivity', { percent: data.percent, section: data.section })"
            @click="looked = looked?.sectionId === data.sectionId ? undefined : data"
          />
        </template>
      </Column>
    </Listing>
    <Progress v-if="looked" :person="id" :section="looked.sectionId" :title="looked.section" />
    <Scores :person="id" />
    <Stages :person="id" :awards="p.awards" />
    <div class="two">
      <section>
        <h2>{{ $t('people.accounts') }}</h2>
        <Accounts :person-id="p.id" :accounts="p.accounts" />
      </section>
      <section>
        <h2>{{ $t('common.badges') }}</h2>
        <p v-for="a in p.awards" :key="a.id">
          <a :href="a.address" target="_blank" rel="noopener">{{ a.badge }}</a>
          <span class="faint">{{ when(a.awardedAt) }}</span>
          <span v-if="a.revokedAt" class="faint">{{
            $t('people.revoked', { revokedAt: when(a.revokedAt), reason: a.reason })
          }}</span>
          <span v-else-if="a.suspendedAt" class="faint">{{
            $t('badges.suspendedSuspendedAt', { suspendedAt: when(a.suspendedAt), reason: a.suspendedReason })
          }}</span>
        </p>
        <p v-if="!p.awards.length" class="faint">{{ $t('people.noneYet') }}</p>
        <BadgesLink :person="id" />
      </section>
    </div>
    <template v-if="p.records.length > 1">
      <h2>{{ $t('people.records') }}</h2>
      <p v-for="r in p.records" :key="r.interfaceId + r.sourcedId">
        {{ r.register }}: {{ r.name }}
        <span class="faint">{{ [r.identifier, r.email, r.userName].filter(Boolean).join(' · ') }}</span>
        <span v-if="r.leads" class="faint">{{ ' ' }}({{ $t('people.leads') }})</span>
        <span v-if="r.left" class="faint">{{ ' ' }}({{ $t('people.leftRegister') }})</span>
      </p>
      <Merged :person="p.id" />
    </template>
    <h2>{{ $t('people.whatWasSentAbout', { name: p.name }) }}</h2>
    <Listing :rows="p.deliveries" :loading="false" :error="null" :empty="$t('people.nothingYet')">
      <Column :header="$t('common.at')"
        ><template #body="{ data }"
          ><span class="faint">{{ when(data.createdAt) }}</span></template
        ></Column
      >
      <Column :header="$t('common.state')"
        ><template #body="{ data }"><Signal :state="deliveryState(data)" /></template
      ></Column>
      <Column :header="$t('common.what')">
        <template #body="{ data }"
          >{{ doing(data.action)
          }}<template v-if="data.interface"
            >{{ ' ' }}{{ $t('people.through', { interface: data.interface }) }}</template
          ></template
        >
      </Column>
      <Column :header="$t('common.why')">
        <template #body="{ data }"
          ><RouterLink :to="`/events/${data.eventId}`">{{ data.rule }}</RouterLink>
          <span class="faint">{{ happening(data.eventType ?? '') }}</span></template
        >
      </Column>
    </Listing>
    <h2>{{ $t('people.whatHappened') }}</h2>
    <Listing :rows="p.events" :loading="false" :error="null" :empty="$t('people.nothingYet')">
      <Column :header="$t('common.at')"
        ><template #body="{ data }"
          ><span class="faint">{{ when(data.recordedAt) }}</span></template
        ></Column
      >
      <Column :header="$t('people.event')"
        ><template #body="{ data }"
          >{{ happening(data.type) }} <code class="faint">{{ data.type }}</code></template
        ></Column
      >
      <Column field="section" :header="$t('common.section')" />
    </Listing>
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 2rem;
}

p {
  margin: 0.2rem 0;
}

.urgent {
  color: var(--signal);
}

progress {
  vertical-align: middle;
  width: 6rem;
  height: 6px;
  accent-color: var(--calm);
}
</style>
