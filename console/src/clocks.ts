// Times of day as forms write them.
const two = (n: number) => String(n).padStart(2, '0')

/** Minutes since midnight as 08:05. */
export const clock = (minutes: number) => `${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`
