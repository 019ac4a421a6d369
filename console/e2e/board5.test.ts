import mqtt, { type IClientOptions, type MqttClient } from 'mqtt'
import { afterAll, afterEach, beforeAll, expect, test } from 'vitest'
import { Hub, sleep, until } from './hub'

// A board that speaks MQTT 5, with a client that nobody here wrote.
const hub = new Hub()
let key = ''
const open: MqttClient[] = []
beforeAll(async () => {
  await hub.start()
  await hub.setUp()
  key = await hub.device('shed')
})
afterEach(() => open.splice(0).forEach((c) => c.end(true)))
afterAll(() => hub.remove())

async function board(clientId: string, options: IClientOptions = {}): Promise<MqttClient & { heard: string[] }> {
  const c = mqtt.connect(`mqtt://127.0.0.1:${hub.mqtt}`, {
    protocolVersion: 5,
    clientId,
    username: 'shed',
    password: key,
    reconnectPeriod: 0,
    ...options,
  }) as MqttClient & { heard: string[] }
  open.push(c)
  c.heard = []
  c.on('message', (topic, payload) => c.heard.push(`${topic} ${payload}`))
  await new Promise<void>((done, failed) => {
    c.once('connect', () => done())
    c.once('error', failed)
  })
  return c
}
const drop = (c: MqttClient) => (c.stream as unknown as { destroy(): void }).destroy()

test('a will waits for its delay, is told where the session ends before, and never where the board is back in time', async () => {
  const ear = await board('ear')
  await ear.subscribeAsync('ember/shed/r/+', { qos: 1 })
  const will = (word: string, delay: number, expiry = 60) => ({
    clean: false,
    properties: { sessionExpiryInterval: expiry },
    will: {
      topic: 'ember/shed/r/state',
      payload: Buffer.from(word),
      qos: 1 as const,
      retain: false,
      properties: { willDelayInterval: delay },
    },
  })
  const told = (word: string) => ear.heard.includes('ember/shed/r/state ' + word)
  drop(await board('a', will('late', 1)))
  drop(await board('b', will('back', 1)))
  await sleep(300)
  await board('b', { clean: false })
  expect(told('late')).toBe(false)
  await until('after its delay', () => told('late'))
  drop(await board('c', will('new session', 30)))
  await sleep(100)
  await board('c', { clean: true })
  await until('the session has ended', () => told('new session'))
  drop(await board('d', will('no session', 30, 0)))
  await until('there is no session', () => told('no session'))
  await sleep(1000)
  expect(told('back')).toBe(false)
})

test('No Local, and what a publisher says of its message', async () => {
  const [own, other] = [await board('own'), await board('other')]
  await own.subscribeAsync('ember/shed/r/+', { qos: 1, nl: true })
  await other.subscribeAsync('ember/shed/r/+', { qos: 1 })
  const said = new Promise<Record<string, unknown>>((done) =>
    other.once('message', (_t, _p, packet) => done(packet.properties as Record<string, unknown>)),
  )
  await own.publishAsync('ember/shed/r/level', '4', { qos: 1, properties: { contentType: 'text/plain', userProperties: { probe: 'two' } } })
  expect({ ...(await said), userProperties: { ...((await said).userProperties as object) } }).toEqual({
    contentType: 'text/plain',
    userProperties: { probe: 'two' },
  })
  await sleep(300)
  expect(own.heard).toEqual([])
})

test('what is announced as not available is refused, and a silent board is told why it is sent away', async () => {
  const ended = (c: MqttClient) =>
    new Promise<number | undefined>((done, failed) => {
      c.once('disconnect', (p) => done(p.reasonCode))
      c.once('close', () => setTimeout(() => failed(new Error(`${c.options.clientId} was sent away without a word`)), 500))
      setTimeout(() => failed(new Error(`${c.options.clientId} was not sent away`)), 10_000)
    })
  const numbered = await board('numbered')
  const why = ended(numbered)
  numbered.subscribe('ember/shed/r/+', { qos: 1, properties: { subscriptionIdentifier: 3 } }, () => undefined)
  expect(await why).toBe(0xa1)
  await expect(board('other way', { properties: { authenticationMethod: 'x' } })).rejects.toMatchObject({ code: 0x8c })
  const silent = await board('silent', { keepalive: 1 })
  // it would give up by itself at the same moment
  ;(silent as unknown as { keepaliveManager: { destroy(): void } }).keepaliveManager.destroy()
  expect(await ended(silent)).toBe(0x8d)
  const shared = await board('shared')
  await expect(shared.subscribeAsync('$share/g/ember/shed/r/+', { qos: 1 })).rejects.toThrow()
})
