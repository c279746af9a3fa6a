import "@mantine/core/styles.css";
import "./styles.css";
import { createTheme, MantineProvider, Modal } from "@mantine/core";
import { createRoot } from "react-dom/client";
import { App } from "./App.js";

const theme = createTheme({
  primaryColor: "plum",
  colors: {
    plum: [
      "#f5f0f6",
      "#e6dbe8",
      "#cfb9d3",
      "#b796bd",
      "#a379ab",
      "#96669f",
      "#8a5994",
      "#74467d",
      "#623869",
      "#4d2853",
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
