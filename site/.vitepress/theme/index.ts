import type { Theme } from "vitepress";
import DefaultTheme from "vitepress/theme";
import { defineAsyncComponent } from "vue";
import "./portier.css";

export default {
  extends: DefaultTheme,
  enhanceApp: ({ app }) => {
    // The library and its examples are loaded with the page that uses them.
    app.component(
      "RulesPlayground",
      defineAsyncComponent(() => import("../../playground/RulesPlayground.vue")),
    );
  },
} satisfies Theme;
