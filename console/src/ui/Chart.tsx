import styled from "styled-components";

const Frame = styled.figure`
  margin: 0;
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 2px 8px;
  font-size: ${({ theme }) => theme.size.tiny};
  color: ${({ theme }) => theme.color.inkSoft};
  svg { display: block; width: 100%; height: 132px; }
  rect { fill: ${({ theme }) => theme.color.reed}; }
  rect[data-kind="hit"] { fill: transparent; }
  g:hover rect[data-kind="hit"] { fill: ${({ theme }) => theme.color.sunken}; }
  rect[data-kind="failed"] { fill: ${({ theme }) => theme.color.bad}; }
  path { stroke: ${({ theme }) => theme.color.line}; stroke-dasharray: 2 3; fill: none; }
  > div { display: flex; justify-content: space-between; }
  > div:first-child { flex-direction: column; text-align: right; min-width: 34px; height: 127px; margin-top: -7px; }
  > div:last-child { grid-column: 2; }
`;

export interface Bar {
  value: number;
  /** Drawn below the line, in the colour of what is wrong. */
  failed?: number;
  title: string;
}

const H = 120;
const BELOW = 12;

/** A figure that people read: 1, 2 or 5 times a power of ten, at least `value`. */
export function roundUp(value: number): number {
  if (value <= 1) return 1;
  const power = 10 ** Math.floor(Math.log10(value));
  return [1, 2, 5, 10].map((step) => step * power).find((step) => step >= value) ?? value;
}

/** Values over time as bars: a dip is seen as a dip. The words say the same to those who do not see it. */
export function Chart({
  label,
  bars,
  marks,
  unit,
}: {
  label: string;
  bars: Bar[];
  marks: string[];
  unit: (value: number) => string;
}) {
  const most = roundUp(Math.max(...bars.map((bar) => bar.value), 0));
  return (
    <Frame>
      <div aria-hidden>
        <span>{unit(most)}</span>
        <span>{unit(most / 2)}</span>
        <span>0</span>
      </div>
      <svg viewBox={`0 0 ${bars.length * 10} ${H + BELOW}`} preserveAspectRatio="none" role="img" aria-label={label}>
        <path
          d={`M0 0.5H${bars.length * 10}M0 ${H / 2}H${bars.length * 10}M0 ${H}H${bars.length * 10}`}
          vectorEffect="non-scaling-stroke"
        />
        {bars.map((bar, place) => (
          <g key={place}>
            <title>{bar.title}</title>
            <rect data-kind="hit" x={place * 10} y={0} width={10} height={H + BELOW} />
            {bar.value > 0 && (
              <rect
                x={place * 10 + 1}
                width={8}
                y={H - Math.max(2, (bar.value / most) * H)}
                height={Math.max(2, (bar.value / most) * H)}
              />
            )}
            {(bar.failed ?? 0) > 0 && <rect data-kind="failed" x={place * 10 + 1} width={8} y={H + 3} height={BELOW - 4} />}
          </g>
        ))}
      </svg>
      <div aria-hidden>
        {marks.map((mark, place) => (
          <span key={place}>{mark}</span>
        ))}
      </div>
    </Frame>
  );
}

const Line = styled.svg`
  display: block;
  width: 100%;
  height: 16px;
  path { fill: ${({ theme }) => theme.color.reed}; }
  path[data-quiet="true"] { fill: ${({ theme }) => theme.color.line}; }
`;

/** The same, so small that hundreds stand beside each other; one path each. */
export function Spark({ values }: { values: number[] }) {
  const most = Math.max(...values, 0);
  const bar = (value: number, place: number) => {
    const height = most > 0 && value > 0 ? Math.max(2, (value / most) * 15) : 0.8;
    return `M${place * 4} 16v${-height}h3v${height}z`;
  };
  return (
    <Line viewBox={`0 0 ${values.length * 4 || 4} 16`} preserveAspectRatio="none" aria-hidden>
      <path data-quiet={most === 0} d={values.map(bar).join("")} />
    </Line>
  );
}
