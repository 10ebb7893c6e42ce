import type { Schemas } from '../api/client'

export type Trigger = Schemas['NewRule']['trigger']

/** The types of event, which are also what sets rules off, in words. */
export const happenings: Record<Trigger, string> = {
  'section.joined': 'section joined',
  'section.left': 'section left',
  'section.moved': 'moved to another section',
  'access.granted': 'access granted',
  'access.ended': 'access ended',
  'activity.completed': 'activity completed',
  'assessment.passed': 'assessment passed',
  'assessment.failed': 'assessment failed',
  'score.reported': 'score reported',
  'work.submitted': 'work submitted',
  'module.completed': 'module completed',
  'course.completed': 'course completed',
  'progress.crossed': 'share of a course reached',
  'activity.reopened': 'activity no longer complete',
  'module.reopened': 'module no longer complete',
  'course.reopened': 'course no longer complete',
  'person.inactive': 'no activity for days',
  'person.not-begun': 'not begun after days',
  'badge.awarded': 'badge awarded',
  'badge.revoked': 'badge revoked',
  'stage.reached': 'stage reached',
  'stage.reopened': 'stage no longer reached',
  'run.needs-person': 'run needs a person',
  'service.reported': 'reported by a service',
}

/** The types of event, in the order in which they are offered. */
export const triggers = Object.keys(happenings) as Trigger[]

/** What a type of event is called, in words. */
export const happening = (type: string) => happenings[type as Trigger] ?? type

/** What a rule can do, in words. */
export const actions: Record<Schemas['Action']['kind'], string> = {
  'send-event': 'send a signed event',
  mail: 'mail',
  award: 'award a badge',
  'call-operation': 'call an operation',
  enrol: 'enrol',
  unenrol: 'take out of a section',
  'add-to-group': 'add to a group',
  'take-from-group': 'take out of a group',
  task: 'open a task',
  'append-row': 'append a row',
}

/** What a delivery does, in words. */
export const doing = (kind: string) => actions[kind as keyof typeof actions] ?? kind

/** The types of event to choose from. */
export const triggerChoices = triggers.map((t) => ({ value: t, label: happening(t), apart: t }))
