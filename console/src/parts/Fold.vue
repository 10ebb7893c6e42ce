<script setup lang="ts">
import Accordion from 'primevue/accordion'
import AccordionContent from 'primevue/accordioncontent'
import AccordionHeader from 'primevue/accordionheader'
import AccordionPanel from 'primevue/accordionpanel'
import { ref } from 'vue'

/** What is seldom needed, folded away. */
const props = defineProps<{ title: string; open?: boolean }>()
const at = ref(props.open ? '0' : null)
</script>

<template>
  <Accordion v-model:value="at" class="fold">
    <AccordionPanel value="0">
      <AccordionHeader
        ><slot name="title">{{ title }}</slot></AccordionHeader
      >
      <AccordionContent><slot /></AccordionContent>
    </AccordionPanel>
  </Accordion>
</template>

<style scoped>
.fold {
  margin-bottom: 1rem;
}

.fold :deep(.p-accordionheader) {
  padding: 0.3rem 0;
  font-weight: 400;
  color: var(--faint);
  background: none;
  justify-content: flex-end;
  gap: 0.6rem;
  flex-direction: row-reverse;
}

.fold :deep(.p-accordioncontent-content) {
  padding: 0.4rem 0 0;
  background: none;
}

.fold :deep(.p-accordionpanel) {
  border: 0;
}
</style>
