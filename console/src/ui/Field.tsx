import { type ReactNode, useId } from "react";
import { Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";

const Base = styled(TextField)`
  max-width: 100%;
  display: flex;
  flex-direction: column;
  gap: 2px;
  label { font-size: ${({ theme }) => theme.size.small}; color: ${({ theme }) => theme.color.inkSoft}; }
  input {
    font: inherit;
    max-width: 100%;
    height: 32px;
    padding: 4px 10px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
    color: inherit;
  }
`;

interface Props {
  label: string;
  value: string;
  change: (value: string) => void;
  type?: "text" | "password";
  placeholder?: string;
  autoComplete?: string;
  width?: number;
}

export function Field({ label, value, change, type = "text", placeholder, autoComplete = "off", width }: Props) {
  return (
    <Base value={value} onChange={change} type={type}>
      <Label>{label}</Label>
      <Input placeholder={placeholder} autoComplete={autoComplete} style={width ? { width } : undefined} />
    </Base>
  );
}

const Pick = styled.div`
  display: flex;
  flex-direction: column;
  gap: 2px;
  font-size: ${({ theme }) => theme.size.small};
  color: ${({ theme }) => theme.color.inkSoft};
  select {
    font: inherit;
    font-size: ${({ theme }) => theme.size.body};
    height: 32px;
    padding: 4px 8px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
    color: ${({ theme }) => theme.color.ink};
  }
`;

export function OneOf<T extends string>({
  label,
  value,
  of,
  change,
}: {
  label: string;
  value: T;
  of: readonly T[];
  change: (value: T) => void;
}) {
  const id = useId();
  return (
    <Pick>
      <label htmlFor={id}>{label}</label>
      <select id={id} value={value} onChange={(event) => change(event.target.value as T)}>
        {of.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </Pick>
  );
}

/** A form in one line, its button at the foot of the fields. */
const Line = styled.form`
  display: flex;
  flex-wrap: wrap;
  align-items: flex-end;
  gap: ${({ theme }) => theme.space.m};
`;

export function FormLine({ label, send, children }: { label: string; send: () => void; children: ReactNode }) {
  return (
    <Line
      aria-label={label}
      onSubmit={(event) => {
        event.preventDefault();
        send();
      }}
    >
      {children}
    </Line>
  );
}

/** A word that does something, in a row of a table. Plain: hundreds of the richer kind are weighed anew with every change. */
export const InRow = styled.button`
  border: 0;
  padding: 0 4px;
  background: none;
  font: inherit;
  color: ${({ theme }) => theme.color.reed};
  cursor: pointer;
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  vertical-align: bottom;
  &:hover { text-decoration: underline; }
`;

export const InRowInput = styled.input`
  width: 92px;
  font: inherit;
  padding: 0 6px;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: 4px;
  background: ${({ theme }) => theme.color.surface};
  color: inherit;
`;
