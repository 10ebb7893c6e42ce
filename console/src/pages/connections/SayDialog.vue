<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { people, person, section, sections } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { letGo } from '../../parts/form/typed'
import { $t } from '../../texts'

/** Says which sections a course page is about, or who of the register somebody is who opened one. */
const props = defineProps<{ course?: Schemas['CoursePage']; stranger?: Schemas['Unrecognised'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const chosen = ref(props.course?.sections.map((s) => s.id) ?? [])
const names = ref(Object.fromEntries((props.course?.sections ?? []).map((s) => [s.id, s.title])))
const one = ref('')
const likely = useQuery({
  queryKey: ['course-pages', 'candidates', () => props.course?.id],
  queryFn: () =>
    ok(api.GET('/api/v1/course-pages/{id}/candidates', { params: { path: { id: props.course!.id } } })),
  enabled: () => !!props.course,
})
const proposed = computed(() => likely.data.value?.items.filter((c) => !chosen.value.includes(c.section.id)))
function take(c: Schemas['CoursePageCandidate']) {
  names.value[c.section.id] = c.section.title
  chosen.value.push(c.section.id)
}
async function add() {
  const id = one.value
  if (!id || chosen.value.includes(id)) return
  names.value[id] = (await section(id))?.label ?? id
  chosen.value.push(id)
  one.value = ''
}
const title = computed(() =>
  props.course
    ? $t('connections.whichSectionIs', { name: props.course.title || props.course.label })
    : $t('connections.whoIsNamed', { name: props.stranger!.name || props.stranger!.subject }),
)
const save = useMutation({
  mutationFn: async () => {
    if (props.stranger) {
      await ok(
        api.PUT('/api/v1/unrecognised/{id}', {
          params: { path: { id: props.stranger.id } },
          body: { personId: one.value },
        }),
      )
      return
    }
    await add()
    await ok(
      api.PUT('/api/v1/course-pages/{id}/sections', {
        params: { path: { id: props.course!.id } },
        body: { sections: chosen.value },
      }),
    )
  },
  onSuccess: () => {
    letGo()
    void queries.invalidateQueries({ queryKey: ['course-pages'] })
    emit('close')
  },
})
</script>

<template>
  <FormDialog
    :title="title"
    :submit="$t('common.save')"
    :sending="save.isPending.value"
    :unready="!!stranger && !one"
    :error="save.error.value"
    :typed="[one, chosen]"
    @submit="save.mutate()"
    @close="emit('close')"
  >
    <template v-if="stranger">
      <p>{{ stranger.why }}.</p>
      <Finder
        v-model="one"
        input-id="who"
        :label="$t('connections.person')"
        :search="people"
        :named="person"
      />
    </template>
    <template v-else>
      <p class="faint">{{ $t('connections.whichSectionAbout') }}</p>
      <ul>
        <li v-for="id in chosen" :key="id">
          {{ names[id] }}
          <Button
            size="small"
            variant="text"
            :label="$t('connections.takeAwayOne')"
            :aria-label="`${$t('connections.takeAwayOne')} ${names[id]}`"
            @click="chosen = chosen.filter((x) => x !== id)"
          />
        </li>
      </ul>
      <div v-for="c in proposed" :key="c.section.id" class="proposed">
        <span
          >{{ c.section.title }}
          <span class="faint">{{
            [c.section.code, c.section.terms.join(', ')].filter(Boolean).join(' · ')
          }}</span><br /><span class="faint">{{
            $t('connections.speaksForIt', { shared: c.shared, opened: c.opened, similar: c.similar })
          }}</span></span
        >
        <Button
          size="small"
          variant="outlined"
          :label="$t('connections.takeSection')"
          :aria-label="`${$t('connections.takeSection')} ${c.section.title} ${c.section.code}`"
          @click="take(c)"
        />
      </div>
      <Finder
        v-model="one"
        input-id="which"
        :label="$t('connections.section')"
        :search="sections"
        :named="section"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('connections.oneMore')"
        :disabled="!one"
        @click="add()"
      />
    </template>
  </FormDialog>
</template>

<style scoped>
.proposed {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.3rem 0;
  border-bottom: 1px solid var(--hair);
}

ul {
  list-style: none;
  padding: 0;
}
</style>
