import { useState } from "react";
import { ListBox, ListBoxItem } from "react-aria-components";
import styled from "styled-components";
import { Find } from "./Find";

const Side = styled.div`
  display: grid;
  gap: 6px;
`;

const Base = styled(ListBox)`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: 4px;
  max-height: 66vh;
  overflow: auto;
  [role="option"] { padding: 6px 10px; border-radius: 4px; cursor: pointer; display: flex; flex-direction: column; overflow-wrap: anywhere; }
  [role="option"][data-hovered] { background: ${({ theme }) => theme.color.water}; }
  [role="option"][data-selected] { background: ${({ theme }) => theme.color.reedSoft}; font-weight: 600; }
  small { color: ${({ theme }) => theme.color.inkSoft}; font-weight: 400; }
`;

/** From so many on a list has a field to find one by. */
const MANY = 12;

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
  const [words, find] = useState("");
  const wanted = words.trim().toLowerCase();
  const shown = wanted ? items.filter((item) => item.id.toLowerCase().includes(wanted)) : items;
  return (
    <Side>
      {items.length > MANY && (
        <Find label={`Find in ${label.toLowerCase()}`} hint={`Find one of ${items.length}`} words={words} find={find} />
      )}
      <Base
        aria-label={label}
        selectionMode="single"
        disallowEmptySelection
        selectedKeys={[chosen]}
        renderEmptyState={() => <small>No match.</small>}
        onSelectionChange={(keys) => {
          const [key] = keys;
          if (key !== undefined) choose(String(key));
        }}
      >
        {shown.map((item) => (
          <ListBoxItem key={item.id} id={item.id} textValue={item.id}>
            <span>{item.id}</span>
            {item.under && <small>{item.under}</small>}
          </ListBoxItem>
        ))}
      </Base>
    </Side>
  );
}
