import type { ReactNode } from "react";
import { Tab, TabList, TabPanel, Tabs as AriaTabs } from "react-aria-components";
import styled from "styled-components";

const Base = styled(AriaTabs)`
  display: flex;
  flex-direction: column;
  gap: ${({ theme }) => theme.space.m};
  [role="tablist"] { display: flex; gap: ${({ theme }) => theme.space.xs}; border-bottom: 1px solid ${({ theme }) => theme.color.line}; }
  [role="tab"] {
    padding: 6px 12px;
    cursor: pointer;
    color: ${({ theme }) => theme.color.inkSoft};
    border-bottom: 2px solid transparent;
    margin-bottom: -1px;
  }
  [role="tab"][data-selected] {
    color: ${({ theme }) => theme.color.ink};
    font-weight: 600;
    border-bottom-color: ${({ theme }) => theme.color.reed};
  }
`;

export interface TabItem {
  id: string;
  title: string;
  body: ReactNode;
}

export function Tabs({ label, items }: { label: string; items: TabItem[] }) {
  return (
    <Base>
      <TabList aria-label={label}>
        {items.map((item) => (
          <Tab key={item.id} id={item.id}>
            {item.title}
          </Tab>
        ))}
      </TabList>
      {items.map((item) => (
        <TabPanel key={item.id} id={item.id}>
          {item.body}
        </TabPanel>
      ))}
    </Base>
  );
}
