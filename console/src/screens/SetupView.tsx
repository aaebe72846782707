import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { setupSql } from "../lib/queries";
import { Section } from "../ui/Page";
import { Loaded } from "./Loaded";

export const Script = styled.pre`
  margin: 0;
  padding: ${({ theme }) => theme.space.m};
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  font-family: ${({ theme }) => theme.font.mono};
  font-size: ${({ theme }) => theme.size.small};
  overflow: auto;
  max-height: 60vh;
  i { color: ${({ theme }) => theme.color.inkSoft}; font-style: normal; }
`;

/** What an administrator of the database has to run, with the names of this source's feeds filled in. */
export function SetupView({ source }: { source: string }) {
  const found = useQuery({ queryKey: ["sources", source, "setup-sql"], queryFn: () => setupSql(source) });
  return (
    <Section>
      <p>For the database administrator: the rights this source needs so that its feeds can read, and no more.</p>
      <Loaded query={found} what="the statements">
        {(statements) => (
          <Script tabIndex={0} aria-label="Statements">
            {statements.map((one, index) => (
              <span key={index}>
                <i>{`-- ${one.why}\n`}</i>
                {one.sql && `${one.sql}\n`}
              </span>
            ))}
          </Script>
        )}
      </Loaded>
    </Section>
  );
}
