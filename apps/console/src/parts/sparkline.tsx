import { live, useLiveSlowly } from '../live';

/** The course of the last values, without any scale: enough to see whether it moves. */
export function Sparkline({ node, width = 96, height = 20 }: { node: string; width?: number; height?: number }) {
  useLiveSlowly(node);
  const trail = live.trailOf(node);
  const numbers = trail.filter((point) => point.v !== null) as { t: number; v: number }[];
  if (numbers.length < 2) return <svg width={width} height={height} aria-hidden="true" />;
  const from = trail[0]!.t;
  const span = Math.max(1, trail[trail.length - 1]!.t - from);
  const low = Math.min(...numbers.map((p) => p.v));
  const high = Math.max(...numbers.map((p) => p.v));
  const size = high - low || 1;
  let path = '';
  let isPen = false;
  for (const point of trail) {
    if (point.v === null) {
      isPen = false;
      continue;
    }
    const x = ((point.t - from) / span) * (width - 2) + 1;
    const y = high === low ? height / 2 : height - 2 - ((point.v - low) / size) * (height - 4);
    path += `${isPen ? 'L' : 'M'}${x.toFixed(1)} ${y.toFixed(1)}`;
    isPen = true;
  }
  return (
    <svg width={width} height={height} aria-hidden="true">
      <path d={path} fill="none" stroke="var(--teal)" strokeWidth="1.300" />
    </svg>
  );
}
