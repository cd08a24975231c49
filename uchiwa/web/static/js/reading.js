// The reading page of a log.

import "./lib/completion.js";
import { registerPage } from "./lib/page.js";
import { ReadingPage } from "./reading/page.js";

registerPage("reading", ReadingPage);
