import styled from "styled-components";

const tones: Record<string, "good" | "bad" | "warn" | "busy" | "plain"> = {
  succeeded: "good",
  done: "good",
  same: "good",
  ok: "good",
  differs: "bad",
  failed: "bad",
  interrupted: "bad",
  cancelled: "warn",
  skipped: "warn",
  running: "busy",
  reading: "busy",
  committing: "busy",
  queued: "busy",
};

const Mark = styled.span`
  display: inline-block;
  border-radius: 999px;
  padding: 0 9px;
  font-size: ${({ theme }) => theme.size.small};
  line-height: 20px;
  background: ${({ theme }) => theme.color.sunken};
  color: ${({ theme }) => theme.color.inkSoft};
  &[data-tone="good"] { background: ${({ theme }) => theme.color.goodSoft}; color: ${({ theme }) => theme.color.good}; }
  &[data-tone="bad"] { background: ${({ theme }) => theme.color.badSoft}; color: ${({ theme }) => theme.color.bad}; }
  &[data-tone="warn"] { background: ${({ theme }) => theme.color.warnSoft}; color: ${({ theme }) => theme.color.warn}; }
  &[data-tone="busy"] { background: ${({ theme }) => theme.color.busySoft}; color: ${({ theme }) => theme.color.busy}; }
`;

/** An outcome, a phase or a state: the word carries the meaning, the colour only helps. */
export function Badge({ word, tone }: { word: string; tone?: "good" | "bad" | "warn" | "busy" }) {
  return <Mark data-tone={tone ?? tones[word] ?? "plain"}>{word}</Mark>;
}
