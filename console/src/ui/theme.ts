/** Light, dark, or as the system has it; remembered by this browser. */
import { useEffect, useState } from "react";

export type Theme = "system" | "light" | "dark";
const KEY = "ypogeion-theme";

function remembered(): Theme {
  const kept = localStorage.getItem(KEY);
  return kept === "light" || kept === "dark" ? kept : "system";
}

export function useTheme(): [Theme, (theme: Theme) => void] {
  const [theme, setTheme] = useState(remembered);
  // The outside system: the document's root, which the style sheet looks at.
  useEffect(() => {
    if (theme === "system") {
      delete document.documentElement.dataset.theme;
      localStorage.removeItem(KEY);
    } else {
      document.documentElement.dataset.theme = theme;
      localStorage.setItem(KEY, theme);
    }
  }, [theme]);
  return [theme, setTheme];
}
