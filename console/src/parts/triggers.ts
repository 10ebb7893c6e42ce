import type { Schemas } from '../api/client'
import { $t } from '../texts'

export type Trigger = Schemas['NewRule']['trigger']

/** The types of event, which are also what sets rules off, in words. */
export const happenings: Record<Trigger, string> = {
  'section.joined': $t('parts.sectionJoined'),
  'section.left': $t('parts.sectionLeft'),
  'section.moved': $t('parts.movedToAnotherSection'),
  'access.granted': $t('parts.accessGranted'),
  'access.ended': $t('parts.accessEnded'),
  'activity.completed': $t('parts.activityCompleted'),
  'assessment.passed': $t('parts.assessmentPassed'),
  'assessment.failed': $t('parts.assessmentFailed'),
  'score.reported': $t('parts.scoreReported'),
  'work.submitted': $t('parts.workSubmitted'),
  'module.completed': $t('parts.moduleCompleted'),
  'course.completed': $t('parts.courseCompleted'),
  'progress.crossed': $t('parts.shareOfCourseReached'),
  'activity.reopened': $t('parts.activityNoLongerComplete'),
  'module.reopened': $t('parts.moduleNoLongerComplete'),
  'course.reopened': $t('parts.courseNoLongerComplete'),
  'person.inactive': $t('parts.noActivityForDays'),
  'person.not-begun': $t('parts.notBegunAfterDays'),
  'badge.awarded': $t('parts.badgeAwarded'),
  'badge.revoked': $t('parts.badgeRevoked'),
  'stage.reached': $t('parts.stageReached'),
  'stage.reopened': $t('parts.stageNoLongerReached'),
  'score.final': $t('parts.scoreFinal'),
  'score.carried': $t('parts.scoreCarried'),
  'score.conflict': $t('parts.scoresDiffer'),
  'run.needs-person': $t('parts.runNeedsPerson'),
  'service.reported': $t('parts.reportedByService'),
}

/** The types of event, in the order in which they are offered. */
export const triggers = Object.keys(happenings) as Trigger[]

/** What a type of event is called, in words. */
export const happening = (type: string) => happenings[type as Trigger] ?? type

/** What a rule can do, in words. */
export const actions: Record<Schemas['Action']['kind'], string> = {
  'send-event': $t('parts.sendSignedEvent'),
  mail: $t('parts.mail'),
  award: $t('parts.awardBadge'),
  'call-operation': $t('parts.callOperation'),
  enrol: $t('parts.enrol'),
  unenrol: $t('parts.takeOutOfSection'),
  'add-to-group': $t('parts.addToGroup'),
  'take-from-group': $t('parts.takeOutOfGroup'),
  task: $t('parts.openTask'),
  'append-row': $t('parts.appendRow'),
}

/** What a delivery does, in words. */
export const doing = (kind: string) => actions[kind as keyof typeof actions] ?? kind

/** The types of event to choose from. */
export const triggerChoices = triggers.map((t) => ({ value: t, label: happening(t), apart: t }))
