// The page of a session that is watched while it is recorded.

import { registerPage } from "./lib/page.js";
import { LivePage } from "./live/page.js";

registerPage("live", LivePage);
