import DefaultTheme from "vitepress/theme";
import "./portier.css";

export default DefaultTheme;
