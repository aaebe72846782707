import { createGlobalStyle } from "styled-components";
import { variables } from "../theme";

export const Global = createGlobalStyle`
  :root { ${variables("light")} color-scheme: light; }
  @media (prefers-color-scheme: dark) { :root:not([data-theme="light"]) { ${variables("dark")} color-scheme: dark; } }
  :root[data-theme="dark"] { ${variables("dark")} color-scheme: dark; }
  *, *::before, *::after { box-sizing: border-box; }
  body {
    margin: 0;
    background: ${({ theme }) => theme.color.water};
    color: ${({ theme }) => theme.color.ink};
    font: 400 ${({ theme }) => theme.size.body}/1.45 ${({ theme }) => theme.font.body};
    font-variant-numeric: tabular-nums;
  }
  main a { color: ${({ theme }) => theme.color.reed}; text-underline-offset: 2px; }
  :focus { outline: none; }
  :focus-visible, [data-focus-visible] { outline: 2px solid ${({ theme }) => theme.color.focus}; outline-offset: 1px; }
  @media (prefers-reduced-motion: reduce) { * { animation: none !important; transition: none !important; } }
`;
