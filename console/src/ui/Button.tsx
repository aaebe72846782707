import type { ReactNode } from "react";
import { Button as AriaButton } from "react-aria-components";
import styled from "styled-components";

const Base = styled(AriaButton)`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  color: ${({ theme }) => theme.color.ink};
  font: inherit;
  font-weight: 600;
  padding: 5px 14px;
  min-width: 76px;
  cursor: pointer;
  &[data-hovered] { border-color: ${({ theme }) => theme.color.inkFaint}; }
  &[data-pressed] { background: ${({ theme }) => theme.color.sunken}; }
  &[data-disabled], &[data-pending] { opacity: 0.6; cursor: default; }
  &[data-look="main"] {
    background: ${({ theme }) => theme.color.reed};
    border-color: ${({ theme }) => theme.color.reed};
    color: ${({ theme }) => theme.color.onReed};
  }
  &[data-look="main"][data-hovered] { background: ${({ theme }) => theme.color.reedStrong}; }
  &[data-look="quiet"] { border-color: transparent; background: none; min-width: 0; padding: 5px 8px; font-weight: 400; text-align: left; }
  &[data-look="quiet"][data-hovered] { background: ${({ theme }) => theme.color.sunken}; }
`;

interface Props {
  children: ReactNode;
  onPress?: () => void;
  type?: "button" | "submit";
  look?: "main" | "plain" | "quiet";
  isPending?: boolean;
  isDisabled?: boolean;
  label?: string;
}

/** A pending button keeps its place and focus, and cannot be pressed twice. */
export function Button({ children, onPress, type, look = "plain", isPending, isDisabled, label }: Props) {
  return (
    <Base data-look={look} type={type} onPress={onPress} isPending={isPending} isDisabled={isDisabled} aria-label={label}>
      {children}
    </Base>
  );
}
