import type { Schemas } from '../../api/client'
import { $t } from '../../texts'
import { keepsClasses, refused } from '../connections/interface'

/** One step of the way to something. */
export interface FirstStep {
  title: string
  /** What it is for, in a sentence. */
  why: string
  done: boolean
  /** What was found when it was looked at. */
  check: string
  /** The page on which it is done, and what its link says. */
  to?: string
  act?: string
}

/** Gives the interfaces that have a capability. */
type Able = (capability: string) => Schemas['Interface'][]

/** What the first steps are worked out from. */
export interface Known {
  interfaces: Schemas['Interface'][]
  /** Those through which something can be heard or done. */
  able: Able
  /** Sections in the register, paired or not. */
  sections: number
  paired: number
  /** Those that were run once at least. */
  ran: number
}

function tested(list: Schemas['Interface'][]): string {
  const untested = list.filter((i) => !i.probedAt)
  const barred = list.filter(refused)
  if (untested.length) return $t('start.isNotTestedYet', { name: untested[0]!.name })
  if (barred.length) return $t('start.doesNotLetKanbanIn', { name: barred[0]!.name })
  return $t('start.testedWorks', { list: list.map((i) => i.name).join(', ') })
}

/** The way from an empty installation to the first class that was run. */
export function firstSteps(k: Known): FirstStep[] {
  const registers = k.able('people-in')
  const services = k.interfaces.filter(keepsClasses)
  const register = registers[0]
  return [
    {
      title: $t('start.connectRegister'),
      why: $t('start.itSaysWhoIsIn'),
      done: registers.length > 0,
      check: registers.length ? tested(registers) : $t('start.noRegisterIsConnected'),
      to: register ? `/connections/${register.connectionId}` : '/connections/new',
      act: register ? $t('start.showIt', { name: register.name }) : $t('start.connectOneRegister'),
    },
    {
      title: $t('common.readIt'),
      why: $t('start.readingChangesNothingAtRegister'),
      done: k.sections > 0,
      check: k.sections
        ? $t('start.sectionsRead', { n: k.sections.toLocaleString() }, k.sections)
        : register?.lastRead
          ? $t('start.lastRead', { error: register.lastRead.error || register.lastRead.state })
          : $t('start.itWasNotReadYet'),
      to: register && `/connections/${register.connectionId}`,
      act: $t('start.readNowOnItsPage'),
    },
    {
      title: $t('start.connectService'),
      why: $t('start.thereSectionsGetTheirClasses'),
      done: services.length > 0,
      check: services.length ? tested(services) : $t('start.noServiceThatTakesClasses'),
      to: services[0] ? `/connections/${services[0].connectionId}` : '/connections/new?kind=scim',
      act: services[0] ? $t('start.showIt', { name: services[0].name }) : $t('start.connectService'),
    },
    {
      title: $t('start.pairSectionWithClass'),
      why: $t('start.youSeeWhoWouldBe'),
      done: k.paired > 0,
      check: k.paired
        ? $t('start.sectionsPaired', { n: k.paired.toLocaleString() }, k.paired)
        : $t('start.noSectionIsPaired'),
      to: k.sections && services.length ? '/sections?state=not-paired' : undefined,
      act: $t('start.chooseSection'),
    },
    {
      title: $t('start.runIt'),
      why: $t('start.runDoesWhatItsPreview'),
      done: k.ran > 0,
      check: k.ran
        ? $t('start.classesRun', { n: k.ran.toLocaleString() }, k.ran)
        : $t('start.noClassWasRunYet'),
      to: k.paired ? '/sections?state=never-run' : undefined,
      act: $t('start.openPairingAndRunIt'),
    },
  ]
}

/** The way from what people do in a course to what follows from it. */
export function ruleSteps(k: {
  able: Able
  /** Courses that have an outline. */
  outlines: number
  badges: number
  rules: number
  /** Rules that are on. */
  on: number
  /** Something was delivered. */
  delivered: boolean
}): FirstStep[] {
  const platforms = k.able('learning-events-in')
  return [
    {
      title: $t('start.connectPlatform'),
      why: $t('start.itReportsWhatPeopleDo'),
      done: platforms.length > 0,
      check: platforms.length ? tested(platforms) : $t('start.noPlatform'),
      to: platforms[0] ? `/connections/${platforms[0].connectionId}` : '/connections/new?kind=xapi',
      act: platforms[0] ? $t('start.showIt', { name: platforms[0].name }) : $t('start.connectPlatformLink'),
    },
    {
      title: $t('start.setOutline'),
      why: $t('start.byItProgressIsWorkedOut'),
      done: k.outlines > 0,
      check: k.outlines
        ? $t('start.outlines', { n: k.outlines.toLocaleString() }, k.outlines)
        : $t('start.noOutline'),
      to: '/outlines',
      act: $t('start.openOutlines'),
    },
    {
      title: $t('start.makeBadge'),
      why: $t('start.badgeIsOptional'),
      done: k.badges > 0,
      check: k.badges ? $t('start.badges', { n: k.badges }, k.badges) : $t('start.noBadge'),
      to: '/awards',
      act: $t('start.openBadges'),
    },
    {
      title: $t('start.makeRule'),
      why: $t('start.tryItFirst'),
      done: k.on > 0,
      check: k.on
        ? $t('start.rulesOn', { n: k.on }, k.on)
        : k.rules
          ? $t('start.noRuleOn')
          : $t('start.noRule'),
    },
    {
      title: $t('start.seeWhatItDid'),
      why: $t('start.everyDeliveryIsFollowed'),
      done: k.delivered,
      check: k.delivered ? $t('start.somethingDelivered') : $t('start.nothingDelivered'),
      to: k.on ? '/deliveries' : undefined,
      act: $t('start.openDeliveries'),
    },
  ]
}

/** The way from what somebody buys to the section it opens. */
export function accessSteps(k: {
  able: Able
  offers: number
  /** Offers that are on. */
  on: number
  /** People who have or had access. */
  people: number
}): FirstStep[] {
  const shops = k.able('events-in')
  return [
    {
      title: $t('start.connectShop'),
      why: $t('start.itReportsWhatIsBought'),
      done: shops.length > 0,
      check: shops.length ? tested(shops) : $t('start.noShop'),
      to: shops[0] ? `/interfaces/${shops[0].id}/meaning` : '/connections/new?kind=cloudevents',
      act: shops[0] ? $t('start.whatItsEventsMean') : $t('start.connectShopLink'),
    },
    {
      title: $t('start.makeOffer'),
      why: $t('start.offerSaysWhichSections'),
      done: k.on > 0,
      check: k.on
        ? $t('start.offersOn', { n: k.on }, k.on)
        : k.offers
          ? $t('start.noOfferOn')
          : $t('start.noOffer'),
    },
    {
      title: $t('start.seeWhoHasAccess'),
      why: $t('start.bothSidesAreCompared'),
      done: k.people > 0,
      check: k.people
        ? $t('start.accesses', { n: k.people.toLocaleString() }, k.people)
        : $t('start.noAccess'),
    },
  ]
}
