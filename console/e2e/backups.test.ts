import { afterAll, afterEach, beforeEach, expect, test } from 'vitest'
import { mkdtempSync, readdirSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { browser, closeBrowser, Hub, overflow, page, phone, signIn, until } from './hub'

let hub: Hub
beforeEach(async () => {
  hub = await new Hub().start()
})
afterEach(async () => {
  for (const c of (await browser()).contexts()) await c.close()
  await hub.remove()
})
afterAll(closeBrowser)

test('backups go to another disk, come back from there, and are restored for a trial', async () => {
  await hub.setUp()
  const disk = mkdtempSync(join(tmpdir(), 'idleember-disk-'))
  const { page: p, faults } = await page(hub.url, phone)
  await signIn(p)
  await p.goto(hub.url + '/settings')
  const card = p.getByRole('region', { name: 'Backups' })
  await card.getByLabel('Copied to').selectOption('webdav')
  await card.getByLabel('Address').fill('https://dav.example/kept')
  await card.getByRole('button', { name: 'Save' }).click()
  await card.getByText('what leaves the house is encrypted').waitFor()
  await card.getByLabel('Copied to').selectOption('folder')
  await card.getByRole('textbox', { name: 'Folder' }).fill(join(disk, 'nowhere'))
  await card.getByRole('button', { name: 'Save' }).click()
  await card.getByText('done', { exact: true }).waitFor()
  await card.getByRole('button', { name: 'Show' }).click()
  await card.getByText('is its disk there?').waitFor()
  await card.getByRole('textbox', { name: 'Folder' }).fill(disk)
  await card.getByRole('button', { name: 'Save' }).click()
  await card.getByText('done', { exact: true }).waitFor()
  await card.getByRole('button', { name: 'Back up now' }).click()
  await card.locator('.backups code').first().waitFor()
  await until('it is copied', () => readdirSync(disk).length === 1)
  const [there] = readdirSync(disk)
  expect(there).toMatch(/\.rowan_lane_studio-[0-9a-f]{8}\.ember$/) // whose it is, where hubs share a disk
  const name = there!.replace(/\.[^.]*\.ember$/, '.ember')
  await card.getByRole('button', { name: 'Show' }).click()
  await card.getByText('here too').waitFor()
  await card.getByRole('button', { name: 'Restore drill' }).click()

  await card.getByText(/Last restored for a trial and verified: /).waitFor()
  expect(await overflow(p)).toBe(0)

  rmSync(join(hub.dir, 'backups', name))
  await p.reload()
  await card.getByText('None yet. A backup is').waitFor()
  await card.getByRole('button', { name: 'Show' }).click()
  await card.getByRole('button', { name: 'Fetch' }).click()
  await until('it is here again', () => readdirSync(join(hub.dir, 'backups')).includes(name))
  writeFileSync(join(disk, there!), 'nothing')
  await card.getByRole('button', { name: 'Restore drill' }).click()
  await card
    .getByText(/The last restore drill failed/)
    .or(card.getByText(/damaged, or no backup/))
    .first()
    .waitFor()
  rmSync(disk, { recursive: true })
  expect(faults).toEqual([])
})
