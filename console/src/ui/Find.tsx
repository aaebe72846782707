import { Input, SearchField } from "react-aria-components";
import styled from "styled-components";

const Base = styled(SearchField)`
  max-width: 100%;
  input {
    font: inherit;
    width: var(--find, 100%);
    max-width: 100%;
    padding: 5px 10px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
    color: inherit;
  }
`;

/** A field to find something by. width: in pixels; as wide as there is room where nothing is said. */
export function Find({
  label,
  hint,
  words,
  find,
  width,
}: {
  label: string;
  hint: string;
  words: string;
  find: (words: string) => void;
  width?: number;
}) {
  return (
    <Base aria-label={label} value={words} onChange={find} style={width ? ({ "--find": `${width}px` } as object) : undefined}>
      <Input placeholder={hint} />
    </Base>
  );
}
