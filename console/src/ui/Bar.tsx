import { ProgressBar } from "react-aria-components";
import styled from "styled-components";

const Track = styled(ProgressBar)`
  display: block;
  height: 6px;
  border-radius: 3px;
  background: ${({ theme }) => theme.color.sunken};
  overflow: hidden;
  > div { height: 100%; border-radius: 3px; background: ${({ theme }) => theme.color.reed}; transition: width 200ms linear; }
  &[data-state="failed"] > div { background: ${({ theme }) => theme.color.bad}; }
`;

/** How much of what is expected was taken; full when done, empty where nobody knows. */
export function Bar({ label, value, most, state }: { label: string; value: number; most: number | null; state: string }) {
  const share = state === "done" ? 100 : most ? Math.min(100, (value / most) * 100) : 0;
  return (
    <Track aria-label={label} value={share} data-state={state}>
      <div style={{ width: `${share}%` }} />
    </Track>
  );
}
