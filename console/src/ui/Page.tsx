import type { ReactNode } from "react";
import styled from "styled-components";

const Base = styled.main`
  padding: ${({ theme }) => `${theme.space.l} ${theme.space.xl} ${theme.space.xxl}`};
  display: flex;
  flex-direction: column;
  gap: ${({ theme }) => theme.space.l};
  min-width: 0;
`;

const Head = styled.header`
  display: flex;
  align-items: center;
  gap: ${({ theme }) => theme.space.m};
  min-height: 34px;
  h1 { font-size: ${({ theme }) => theme.size.title}; margin: 0; font-weight: 650; }
  p { margin: 0; color: ${({ theme }) => theme.color.inkSoft}; flex: 1; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
`;

/** One page: its title, a line about it, what can be done. */
export function Page({
  title,
  about,
  actions,
  children,
}: {
  title: ReactNode;
  about?: ReactNode;
  actions?: ReactNode;
  children: ReactNode;
}) {
  return (
    <Base>
      <Head>
        <h1>{title}</h1>
        <p>{about}</p>
        {actions}
      </Head>
      {children}
    </Base>
  );
}

export const Section = styled.section`
  display: flex;
  flex-direction: column;
  gap: ${({ theme }) => theme.space.s};
  min-width: 0;
  h2 { font-size: ${({ theme }) => theme.size.heading}; margin: 0; font-weight: 650; }
  h2 small { font-weight: 400; color: ${({ theme }) => theme.color.inkSoft}; margin-left: 8px; }
`;

export const Facts = styled.dl`
  display: flex;
  flex-wrap: wrap;
  gap: ${({ theme }) => `${theme.space.s} ${theme.space.xl}`};
  margin: 0;
  div { min-width: 76px; }
  dt { color: ${({ theme }) => theme.color.inkSoft}; font-size: ${({ theme }) => theme.size.small}; }
  dd { margin: 0; font-weight: 600; min-height: 20px; }
`;

export const Fact = ({ name, children }: { name: string; children: ReactNode }) => (
  <div>
    <dt>{name}</dt>
    <dd>{children}</dd>
  </div>
);

/** What can be done with what stands below it, in a row. */
export const Actions = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${({ theme }) => theme.space.m};
  min-height: 34px;
  small { color: ${({ theme }) => theme.color.inkSoft}; }
  h2 { font-size: ${({ theme }) => theme.size.heading}; margin: 0; font-weight: 650; white-space: nowrap; }
`;
