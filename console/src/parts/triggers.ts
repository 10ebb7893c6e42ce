import type { Schemas } from '../api/client'

export type Trigger = Schemas['NewRule']['trigger']

/** The types of event, which are also what sets rules off. */
export const triggers: Trigger[] = [
  'section.joined',
  'section.left',
  'section.moved',
  'access.granted',
  'access.ended',
  'activity.completed',
  'assessment.passed',
  'assessment.failed',
  'score.reported',
  'work.submitted',
  'module.completed',
  'course.completed',
  'progress.crossed',
  'activity.reopened',
  'module.reopened',
  'course.reopened',
  'person.inactive',
  'person.not-begun',
  'badge.awarded',
  'badge.revoked',
  'stage.reached',
  'stage.reopened',
  'run.needs-person',
  'service.reported',
]

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
