// The reference for each page, in the console itself: it is there without a network and without a search.
export type Help = { title: string; says: string[]; keys?: [keys: string, does: string][] }

export const help: Record<string, Help> = {
  now: {
    title: 'Now',
    says: [
      'Every place with what it is like now: its readings, each with the last 24 hours drawn small, and below them what can be switched.',
      'What needs somebody stands on top: a device that is away, a reading that is old, a switch that was not confirmed or has no effect, something by hand for more than a day. Where all is well, nothing stands there.',
      'A switch has positions. Auto: the hub decides, and the line below says why. On and Off: by hand, until somebody or an end changes it. A filled lamp is what the device itself reports; a turning ring is on its way.',
      'A pale value is old, and says how old. Tap a value for its chart, the name of a place for all of it, a reason for the whole reasoning.',
      'Favourites come first, for each person their own: the button is on the page of a signal, the order in Settings.',
    ],
    keys: [
      ['/', 'search'],
      ['Esc', 'end the search'],
    ],
  },
  charts: {
    title: 'Charts',
    says: [
      'Type a part of a name to add a signal. Those of one unit share a pane; what is on or off is a strip; Difference takes one from another.',
      'Drag across to zoom in, pinch, or turn the wheel with Ctrl; two clicks zoom out; Back returns. Zoomed out, the line is the mean and the band behind it goes from the lowest to the highest.',
      'Setpoints are dotted, limits amber, bad readings hollow, gaps open. Compare lays an earlier stretch under it, pale.',
      'A click picks a time for a note. Views gives what you see a name. The address holds all of it, to share or to keep.',
    ],
    keys: [
      ['← →', 'earlier, later'],
      ['+ −', 'zoom'],
      ['Home', 'now'],
      ['Backspace', 'back'],
    ],
  },
  dashboards: {
    title: 'Dashboards',
    says: [
      'Pages that you arrange: one’s own, and those that others share with the household or with everybody. A place or device that has none yet is offered ready made.',
      'To a file saves one; From a file brings it back, here or on another hub.',
    ],
  },
  dashboard: {
    title: 'A dashboard',
    says: [
      'Arrange, then Add a tile: choosing a signal, switch or setpoint finds a tile that suits it. Drag by the handle, resize at the corner; Undo and Redo take it back and forth until you save. On narrower screens the tiles find their places; Phone corrects their order there.',
      'A picture can be an SVG, PNG or JPEG. Pin values, lamps, switches and sparklines on it; parts of an SVG that have an id can change fill, opacity, visibility, rotation, level or text by a signal or a formula.',
      'Share says who sees it, and makes walls: links for a screen that nobody signs in at, which show this dashboard and switch only what you tick. Revoke makes such a screen go dark.',
    ],
    keys: [
      ['arrows', 'move the tile'],
      ['Shift+arrows', 'resize it'],
      ['Enter', 'its settings'],
      ['d', 'twice'],
      ['Delete', 'away'],
      ['Ctrl+Z, Ctrl+Y', 'undo, redo'],
      ['Ctrl+S', 'save'],
    ],
  },
  signal: {
    title: 'A signal',
    says: [
      'What it is now, and was over a day, week, month and year, with the times of the lowest and highest.',
      'How long at which value: the height of a bar is the time that the value was in that range. Gaps are where readings are missing for three intervals.',
      'An owner deletes a bad reading in the table, and may bring it back. Readings are kept for ever unless an owner says for how many days; then the sums of their hours stay.',
    ],
  },
  place: {
    title: 'A place',
    says: [
      'All signals and controls of a place, what an owner wrote down about it, and its notes of the last month. A date tells its age.',
    ],
  },
  control: {
    title: 'Control',
    says: [
      'What the hub decides for each control, and from what. Demands are reasons to be on; permits must all hold, or demands do not count; interlocks force a value whatever anybody wants.',
      'Run limits keep a thing from running too long or switching too often. A proof watches for the effect that it must show elsewhere.',
      'Preview runs what you changed over what was recorded before it counts. Conditions are formulas such as drying_room.humidity > 60 and hour < 21.',
    ],
  },
  devices: {
    title: 'Devices',
    says: [
      'Every board and bought thing, how it speaks, and whether it is there. Add one, give it the key that is shown once, and what it sends appears by itself.',
      'What could not be taken is on the device’s page, with the reason.',
    ],
  },
  device: {
    title: 'A device',
    says: [
      'Its signals and switches, what it sent last, and what was refused and why. A mapping or calibration can be tried before it is saved.',
      'New board gives it another key and keeps ids and history. Remove brings its switches to their safe values first.',
    ],
  },
  'add-device': {
    title: 'Adding a device',
    says: [
      'A name and a place are enough. Then the page shows the key, once, and lines to paste for the board; it waits for the first message and says when it came.',
    ],
  },
  models: {
    title: 'Device models',
    says: [
      'A model is the description of a device in a file: its signals, switches, mapping and calibration. From one, as many devices are added as there are boards.',
    ],
  },
  alerts: {
    title: 'Alerts',
    says: [
      'What people must know of, the gravest first. Acknowledge says that you know: reminders stop, and nobody else is woken. Shelve keeps one quiet for a time. Out of service is for what is being repaired; an owner decides that.',
      'Some alerts are there without making: a device that is away, a reading that is missing, a switch that does not answer or has no effect, and the hub’s own troubles. Each can be tuned or switched off.',
      'Routes say who is told, from which severity on, and how; in quiet hours only critical ones come. A route with a delay is told only of what nobody acknowledged by then. Test shows what the other side answers.',
    ],
    keys: [
      ['a', 'acknowledge what is ticked'],
      ['Space', 'tick'],
    ],
  },
  'new-alert': {
    title: 'Tell me when',
    says: [
      'Choose what, and from where on. The last month is drawn beside it, with how often the alert would have come and for how long: drag the limit until that is what you want.',
      'The dead band keeps a value at the limit from raising the alert again and again; a delay leaves out what passes by itself.',
    ],
  },
  digest: {
    title: 'What happened',
    says: [
      'A day or a week in words: what needs somebody now, which alerts came how often and for how long, the longest time that each device was away, energy, run hours, and messages that did not arrive.',
      'Tap a line for its chart. An owner can have it sent by mail, each morning or each Monday: Alerts, Who is told.',
    ],
  },
  journal: {
    title: 'Journal',
    says: [
      'Who or what changed what, when, from where and why. It is searched by words, place, person and time, and saved as CSV. Nothing can be taken out of it.',
      'Where a part of the configuration was changed or taken away, an owner can bring back what was before. That is a change like any other, and can be taken back too.',
    ],
  },
  household: {
    title: 'Household',
    says: [
      'Owners change everything, members switch and look, guests see and touch what an owner opened to guests. A line under Who may do what changes that for a person, a thing or a place; the most specific one counts, at every door.',
      'An invitation is a link that works once, also as a picture for a phone’s camera. By the same way somebody who forgot the password gets a new one. A guest may have an end.',
    ],
  },
  settings: {
    title: 'Settings',
    says: [
      'On top is how you yourself want the console, on every device you sign in on, and how you sign in: the password, a second factor, the browsers that are signed in, tokens for scripts. Below: this hub, how it is reached, backups, brokers and panels, and what it keeps on its disk.',
      'A token may what it is for and no more than you may; it is shown once.',
    ],
  },
}
