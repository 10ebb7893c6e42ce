import type { Schemas } from '../api/client'

/** The types of event, which are also what sets rules off. */
export const triggers: Schemas['NewRule']['trigger'][] = [
  'section.joined',
  'section.left',
  'activity.completed',
  'assessment.passed',
  'assessment.failed',
  'module.completed',
  'course.completed',
  'progress.crossed',
  'activity.reopened',
  'module.reopened',
  'course.reopened',
  'badge.awarded',
  'run.needs-person',
  'service.reported',
]
