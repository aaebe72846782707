// Every colour, space and type size of the console. Reed greens, water greys, ink.
// Colours are CSS variables, so that light and dark switch without rendering anything anew.

const light = {
  ink: "#1d2522",
  inkSoft: "#55625c",
  inkFaint: "#66736d",
  water: "#f3f5f4",
  surface: "#ffffff",
  sunken: "#e9edeb",
  line: "#d5dcd8",
  reed: "#2f5d43",
  reedStrong: "#234833",
  reedSoft: "#dfeae2",
  onReed: "#ffffff",
  good: "#2b6b45",
  goodSoft: "#dcebe1",
  warn: "#7d5a12",
  warnSoft: "#f3e8cd",
  bad: "#9b2f2a",
  badSoft: "#f5dfdc",
  busy: "#2c5f78",
  busySoft: "#d9e7ee",
  focus: "#2c7a8f",
};

const dark: typeof light = {
  ink: "#e3eae6",
  inkSoft: "#a6b3ac",
  inkFaint: "#8b9992",
  water: "#141a18",
  surface: "#1b2320",
  sunken: "#232d29",
  line: "#33403a",
  reed: "#7fb893",
  reedStrong: "#9ccdad",
  reedSoft: "#26382d",
  onReed: "#10201a",
  good: "#86c79c",
  goodSoft: "#21382b",
  warn: "#dfba6d",
  warnSoft: "#3a311b",
  bad: "#ee958d",
  badSoft: "#432724",
  busy: "#8cc0d8",
  busySoft: "#20343e",
  focus: "#79c6da",
};

type ColorName = keyof typeof light;

const names = Object.keys(light) as ColorName[];

export const variables = (palette: "light" | "dark"): string =>
  names.map((name) => `--${name}: ${(palette === "light" ? light : dark)[name]};`).join(" ");

export const theme = {
  color: Object.fromEntries(names.map((name) => [name, `var(--${name})`])) as Record<ColorName, string>,
  // Multiples of 4 px.
  space: { xs: "4px", s: "8px", m: "12px", l: "16px", xl: "24px", xxl: "32px" },
  font: {
    body: '"Source Sans 3", "Segoe UI", "DejaVu Sans", system-ui, sans-serif',
    mono: '"DejaVu Sans Mono", ui-monospace, monospace',
  },
  size: { tiny: "11.5px", small: "12.5px", body: "13.5px", title: "19px", heading: "14.5px" },
  radius: "6px",
} as const;

export type Theme = typeof theme;
