// Two short tones when something new needs a person. A browser lets a page sound once it was touched.
let context: AudioContext | undefined

export function chime() {
  try {
    context ??= new AudioContext()
    void context.resume()
    const begin = context.currentTime + 0.02
    for (const [at, pitch] of [
      [0, 660],
      [0.18, 880],
    ] as const) {
      const tone = context.createOscillator()
      const volume = context.createGain()
      tone.frequency.value = pitch
      volume.gain.setValueAtTime(0, begin + at)
      volume.gain.linearRampToValueAtTime(0.18, begin + at + 0.02)
      volume.gain.exponentialRampToValueAtTime(0.001, begin + at + 0.35)
      tone.connect(volume).connect(context.destination)
      tone.start(begin + at)
      tone.stop(begin + at + 0.4)
    }
  } catch {
    /* no sound here */
  }
}
