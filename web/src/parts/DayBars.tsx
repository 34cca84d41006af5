/** A small picture of the last days: one bar a day, the tallest as high as the picture. */
export function DayBars({ days, what }: { days: number[]; what: string }) {
  const most = Math.max(1, ...days);
  const total = days.reduce((a, b) => a + b, 0);
  return (
    <svg
      className="daybars"
      width={days.length * 7}
      height={22}
      role="img"
      aria-label={`${total} ${what} in the last ${days.length} days`}
    >
      <title>{`${total} ${what} in ${days.length} days; at most ${most} a day`}</title>
      {days.map((n, i) => {
        const h = n === 0 ? 1 : Math.max(3, (n / most) * 21);
        return <rect key={i} x={i * 7} y={22 - h} width={5} height={h} className={n ? 'bar' : 'bar-none'} />;
      })}
    </svg>
  );
}
