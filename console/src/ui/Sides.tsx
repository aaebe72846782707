import styled from "styled-components";

/** A list to choose from, and beside it what was chosen; below each other where there is no room. */
export const Sides = styled.div`
  display: grid;
  grid-template-columns: var(--side, 220px) minmax(0, 1fr);
  gap: ${({ theme }) => theme.space.l};
  align-items: start;
  code { overflow-wrap: anywhere; font-size: ${({ theme }) => theme.size.small}; }
  @media (max-width: 760px) { grid-template-columns: minmax(0, 1fr); }
`;
