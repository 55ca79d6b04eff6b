// The page's behaviour.  The server draws every page; this sends changes, and brings the page up to
// date in place.
import "./image_viewer.js";
import "./forms.js";
import "./files.js";
import "./film_strip.js";
import "./navigation.js";
import "./what_if.js";
import "./floor_plan.js";
import "./viewer_tools.js";
import "./live_look.js";
import "./scene_look.js";
import "./look.js";
import "./recipe_card.js";
import { listen } from "./events.js";

listen();
