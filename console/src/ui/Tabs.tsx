import type { ReactNode } from "react";
import { Tabs as AriaTabs, Tab, TabList, TabPanel } from "react-aria-components";
import { useSearchParams } from "react-router";
import styled from "styled-components";

const Base = styled(AriaTabs)`
  display: flex;
  flex-direction: column;
  gap: ${({ theme }) => theme.space.m};
  [role="tablist"] { display: flex; flex-wrap: wrap; gap: ${({ theme }) => theme.space.xs}; border-bottom: 1px solid ${({ theme }) => theme.color.line}; }
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

/** Which one is open stands in the address, so that it can be linked to and comes back with it. */
export function Tabs({ label, items }: { label: string; items: TabItem[] }) {
  const [asked, ask] = useSearchParams();
  const first = items[0]?.id ?? "";
  const wanted = asked.get("tab");
  const open = items.some((item) => item.id === wanted) ? (wanted ?? first) : first;
  const choose = (id: string) => {
    const next = new URLSearchParams(asked);
    if (id === first) next.delete("tab");
    else next.set("tab", id);
    ask(next, { replace: true });
  };
  return (
    <Base selectedKey={open} onSelectionChange={(key) => choose(String(key))}>
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
