import { Moon, Sun } from "lucide-react";
import { useEffect, useState } from "react";

const KEY = "waverant-theme";

function first(): string {
  const kept = localStorage.getItem(KEY);
  if (kept === "reach" || kept === "dusk") return kept;
  return window.matchMedia("(prefers-color-scheme: dark)").matches ? "dusk" : "reach";
}

export function ThemeSwitch() {
  const [theme, setTheme] = useState(first);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const other = theme === "dusk" ? "reach" : "dusk";
  const onClick = () => {
    localStorage.setItem(KEY, other);
    setTheme(other);
  };
  return (
    <button type="button" className="btn btn-ghost btn-square btn-sm" onClick={onClick} aria-label={theme === "dusk" ? "Light colours" : "Dark colours"}>
      {theme === "dusk" ? <Sun className="size-4" /> : <Moon className="size-4" />}
    </button>
  );
}
