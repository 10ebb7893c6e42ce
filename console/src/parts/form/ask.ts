import type { useConfirm } from 'primevue/useconfirm'

import { $t } from '../../texts'

let service: ReturnType<typeof useConfirm> | undefined

/** Makes the page's one confirm known. */
export const askWith = (s: ReturnType<typeof useConfirm>) => (service = s)

/** Asks a person, and gives whether they said yes. Escape says no. */
export function ask(question: { title: string; text: string; yes: string; no?: string }): Promise<boolean> {
  return new Promise((answered) => {
    if (!service) return answered(window.confirm(`${question.title}\n${question.text}`))
    service.require({
      header: question.title,
      message: question.text,
      acceptProps: { label: question.yes },
      rejectProps: { label: question.no ?? $t('common.cancel'), variant: 'outlined' },
      defaultFocus: 'reject',
      accept: () => answered(true),
      reject: () => answered(false),
      onHide: () => answered(false),
    })
  })
}
