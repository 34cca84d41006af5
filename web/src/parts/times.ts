const make = (timeZone?: string) => ({
  day: new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone }),
  clock: new Intl.DateTimeFormat('en-GB', {
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZone,
  }),
  full: new Intl.DateTimeFormat('en-GB', {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZone,
    timeZoneName: 'short',
  }),
});

let formats = make();

/** Times are shown in the workspace's zone, wherever the browser is. */
export const showZone = (zone: string) => {
  formats = make(zone);
};

/** "20 Nov" */
export const dayOf = (at: string | Date) => formats.day.format(new Date(at));

/** "06:41:07" */
export const clockOf = (at: string | Date) => formats.clock.format(new Date(at));

/** The whole moment with its zone, for titles. */
export const fullOf = (at: string | Date) => formats.full.format(new Date(at));

/** "3 min ago", "in 2 h", "never" */
export function agoOf(at: string | null | undefined, now = Date.now()): string {
  if (!at) return 'never';
  const seconds = Math.round((now - new Date(at).getTime()) / 1000);
  const size = Math.abs(seconds);
  const [n, unit] =
    size < 60
      ? [size, 's']
      : size < 3600
        ? [Math.floor(size / 60), 'min']
        : size < 86400
          ? [Math.floor(size / 3600), 'h']
          : [Math.floor(size / 86400), 'd'];
  if (size < 5) return 'just now';
  return seconds < 0 ? `in ${n} ${unit}` : `${n} ${unit} ago`;
}
