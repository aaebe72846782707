import { ListBox, ListBoxItem, Text } from "react-aria-components";
import styled from "styled-components";

const Base = styled(ListBox)`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: 4px;
  max-height: 68vh;
  overflow: auto;
  [role="option"] { padding: 6px 10px; border-radius: 4px; cursor: pointer; display: flex; flex-direction: column; }
  [role="option"][data-hovered] { background: ${({ theme }) => theme.color.water}; }
  [role="option"][data-selected] { background: ${({ theme }) => theme.color.reedSoft}; font-weight: 600; }
  small { color: ${({ theme }) => theme.color.inkSoft}; font-weight: 400; }
`;

export interface Choice {
  id: string;
  under?: string;
}

interface Props {
  label: string;
  items: Choice[];
  chosen: string;
  choose: (id: string) => void;
}

/** One of a list, walked with the arrow keys. */
export function Choices({ label, items, chosen, choose }: Props) {
  return (
    <Base
      aria-label={label}
      selectionMode="single"
      disallowEmptySelection
      selectedKeys={[chosen]}
      onSelectionChange={(keys) => {
        const [key] = keys;
        if (key !== undefined) choose(String(key));
      }}
    >
      {items.map((item) => (
        <ListBoxItem key={item.id} id={item.id} textValue={item.id}>
          <Text slot="label">{item.id}</Text>
          {item.under && <small>{item.under}</small>}
        </ListBoxItem>
      ))}
    </Base>
  );
}
