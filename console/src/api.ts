// The hub's interface, typed by its contract, and its errors in words.
import createClient from 'openapi-fetch'
import type { components, paths } from './contract.gen'

type Schemas = components['schemas']
export type Signal = Schemas['SignalView']
export type Control = Schemas['ControlView']
export type Device = Schemas['DeviceView']
export type Place = Schemas['Place']
export type Snapshot = Schemas['Snapshot']
export type HubStatus = Schemas['HubStatus']
export type HubInfo = Schemas['HubView']
export type Me = Schemas['Me']
export type Member = Schemas['Member']
export type History = Schemas['History']
export type Refusal = Schemas['Refusal']
export type JournalEntry = Schemas['JournalEntry']
export type DeviceWithKey = Schemas['DeviceWithKey']
export type Message = Schemas['Message']
export type Link = Schemas['Link']
export type Source = Schemas['Source']
export type Target = Schemas['Target']
export type Register = Schemas['Register']
export type Calibration = Schemas['Calibration']
export type Calibrated = Schemas['Calibrated']
export type Tried = Schemas['Tried']
export type Starter = Schemas['Starter']
export type Model = Schemas['Model']
export type ModelEntry = Schemas['ModelView']
export type Broker = Schemas['BrokerView']
export type Panel = Schemas['Panel']
export type Value = Schemas['Value']
export type Setting = Schemas['SettingView']
export type SettingConfig = Schemas['Setting']
export type Preset = Schemas['PresetView']
export type PresetConfig = Schemas['Preset']
export type Rule = Schemas['RuleView']
export type RuleConfig = Schemas['Rule']
export type Group = Schemas['GroupView']
export type GroupConfig = Schemas['Group']
export type Automation = Schemas['Automation']
export type Demand = Schemas['Demand']
export type Condition = Schemas['Condition'] & { when: string }
export type Permit = Schemas['Permit']
export type Interlock = Schemas['Interlock']
export type Schedule = Schemas['Schedule']
export type Moment = Schemas['Moment']
export type Action = Schemas['Action']
export type Saying = Schemas['Saying']
export type Need = Schemas['Need']
export type Why = Schemas['Why']
export type WouldBe = Schemas['WouldBe']
export type Upcoming = Schemas['Upcoming']
export type FormulaWord = Schemas['FormulaWord']
export type Checked = Schemas['Checked']
export type Remark = Schemas['Remark']
export type Mark = Schemas['Mark']
export type Summary = Schemas['Summary']
export type View = Schemas['ViewView']
export type OneReading = Schemas['OneReading']
export type Preferences = Schemas['Preferences']
export type BackupsView = Schemas['BackupsView']
export type Backup = Schemas['Backup']
export type LinkedAlert = Schemas['LinkedAlert']
export type Invite = Schemas['Invite']
export type InviteWithCode = Schemas['InviteWithCode']
export type Invited = Schemas['Invited']
export type Right = Schemas['Right']
export type Rights = Schemas['RightsView']
export type Session = Schemas['Session']
export type Token = Schemas['Token']
export type Scope = Schemas['Scope']
export type Digest = Schemas['Digest']
export type Still = Schemas['Still']
export type Fact = Schemas['Fact']
export type Storage = Schemas['Storage']
export type Dashboard = Schemas['Dashboard']
export type DashboardView = Schemas['DashboardView']
export type Tile = Schemas['Tile']
export type Pin = Schemas['Pin']
export type Part = Schemas['Part']
export type Wall = Schemas['Wall']
export type Alert = Schemas['AlertView']
export type AlertConfig = Schemas['Alert']
export type AlertEvent = Schemas['AlertEvent']
export type AlertTrial = Schemas['AlertTrial']
export type Delivery = Schemas['Delivery']
export type Route = Schemas['RouteView']
export type RouteConfig = Schemas['Route']
export type Messaging = Schemas['MessagingView']
export type Problem = Schemas['Problem']

export const api = createClient<paths>({ baseUrl: '/api/v1' })

/** An answer that is a problem, or no answer at all (status 0). */
export class HubError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly field?: string,
  ) {
    super(message)
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Awaits an operation and returns its data, or throws a HubError with a sentence for people. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new HubError('The hub does not answer. Is it running, and is this device in the house network?', 0)
  }
  if (!answer.response.ok) {
    const p = (answer.error ?? {}) as Partial<Problem>
    throw new HubError(p.detail ? capital(p.detail) + '.' : `The hub answered ${answer.response.status}.`, answer.response.status, p.field)
  }
  return answer.data as T
}

/** The kinds of parts whose operations are all alike. */
export type Lists =
  | 'places'
  | 'devices'
  | 'signals'
  | 'controls'
  | 'settings'
  | 'dashboards'
  | 'presets'
  | 'rules'
  | 'groups'
  | 'routes'
  | 'alerts'
  | 'brokers'
  | 'models'
  | 'views'

/** Keeps a part: without a version it is new and replaces nothing, with one it is changed where it is still of that version. */
export function keepPart<T extends { id: string }>(list: Lists, config: T, version?: string) {
  if (version === undefined) return ask(api.POST(`/${list}`, { body: config as never }))
  return ask(api.PUT(`/${list}/{id}`, { params: { path: { id: config.id }, header: { 'If-Match': version } }, body: config as never }))
}

/** Adds a part of which some fields are told; the others are as they usually are. */
export const addPart = (list: Lists, fields: object) => ask(api.POST(`/${list}`, { body: fields as never }))

/** All parts of a kind that one may see, by id. */
export async function listParts<T>(list: Lists): Promise<T[]> {
  const all: T[] = []
  for (let after = ''; ;) {
    const page = (await ask(api.GET(`/${list}`, { params: { query: after ? { after } : {} } }))) as unknown as { items: T[]; next?: string }
    all.push(...page.items)
    if (!page.next) return all
    after = page.next
  }
}

/** Changes some fields of a part, whatever the others are. */
export const patchPart = (list: Lists, id: string, patch: object) =>
  ask(api.PATCH(`/${list}/{id}`, { params: { path: { id } }, body: patch as never }))

export const removePart = (list: Lists, id: string) => ask(api.DELETE(`/${list}/{id}`, { params: { path: { id } } }))

/** Keeps what there is one of, where it is still of a version; secrets may stand beside its fields. */
export const keepSole = <P extends '/hub' | '/panel' | '/messaging' | '/backups' | '/rights'>(path: P, config: object, version: string) =>
  ask(api.PUT(path as '/hub', { params: { header: { 'If-Match': version } }, body: config as never })) as Promise<unknown> as Promise<
    Soles[P]
  >
type Soles = { '/hub': HubInfo; '/panel': Schemas['PanelView']; '/messaging': Messaging; '/backups': BackupsView; '/rights': Rights }

/** Options of a call that changes what is there of a version; without one it makes something, and replaces nothing. */
export const ifMatch = (version: string | undefined) => ({ params: { header: { 'If-Match': version } } })

/** The sentence of anything that was thrown. */
export function sentence(e: unknown): string {
  return e instanceof Error ? e.message : String(e)
}

export function capital(s: string): string {
  return s.charAt(0).toUpperCase() + s.slice(1)
}
