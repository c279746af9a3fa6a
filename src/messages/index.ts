// Import it for what it does: errors of `portier/functions` and `portier/snapshot` then say what is wrong in sentences.
import { callMessages } from "../schema/call-messages.js";
import { sayBy } from "../schema/problems.js";

sayBy(callMessages);
