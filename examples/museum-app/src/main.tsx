import "@mantine/core/styles.css";
import "./styles.css";
import { createTheme, MantineProvider, Modal } from "@mantine/core";
import { createRoot } from "react-dom/client";
import { App } from "./App.js";

const theme = createTheme({
  primaryColor: "tide",
  colors: {
    wine: [
      "#fbeeee",
      "#f3d9d9",
      "#e8b6b6",
      "#e09f9f",
      "#dc8b8b",
      "#c96767",
      "#b94d4d",
      "#a83a3a",
      "#962c2c",
      "#7d2020",
    ],
    tide: [
      "#eef5f5",
      "#dbe8e9",
      "#b4d0d2",
      "#8ab7ba",
      "#68a2a6",
      "#53949a",
      "#428b92",
      "#2c6f75",
      "#1f6268",
      "#0a545b",
    ],
  },
  primaryShade: { light: 8, dark: 7 },
  fontFamily: 'system-ui, "Segoe UI", "DejaVu Sans", sans-serif',
  defaultRadius: "sm",
  components: { Modal: Modal.extend({ defaultProps: { closeButtonProps: { "aria-label": "Close" } } }) },
});

createRoot(document.getElementById("root") as HTMLElement).render(
  <MantineProvider theme={theme} defaultColorScheme="auto">
    <App />
  </MantineProvider>,
);
