import type { ReactNode } from "react";
import styled from "styled-components";

const Note = styled.div`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-left-width: 4px;
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: ${({ theme }) => `${theme.space.m} ${theme.space.l}`};
  &[data-tone="bad"] { border-left-color: ${({ theme }) => theme.color.bad}; }
  &[data-tone="warn"] { border-left-color: ${({ theme }) => theme.color.warn}; }
  p { margin: 0; overflow-wrap: anywhere; }
  code { color: ${({ theme }) => theme.color.inkFaint}; font-size: ${({ theme }) => theme.size.small}; }
`;

interface Facts {
  doing?: string;
  on?: string;
  found?: string;
  fix?: string;
  code?: string;
  message?: string;
}

/** The service's own error: what was done, to what, what was found, what would fix it, and its stable code. */
export function Trouble({ facts }: { facts: Facts }) {
  const fix = facts.fix ? `${facts.fix[0]?.toUpperCase()}${facts.fix.slice(1)}.` : "";
  return (
    <Note data-tone="bad" role="alert">
      <p>
        {facts.doing ? `${facts.doing} ${facts.on ?? ""}: ${facts.found ?? ""}. ${fix}` : facts.message} <code>{facts.code}</code>
      </p>
    </Note>
  );
}

export function Hint({ children }: { children: ReactNode }) {
  return (
    <Note data-tone="warn" role="status">
      <p>{children}</p>
    </Note>
  );
}

const Dim = styled.p`
  color: ${({ theme }) => theme.color.inkSoft};
`;

export const Waiting = ({ what }: { what: string }) => <Dim role="status">Loading {what} …</Dim>;
