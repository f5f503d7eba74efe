// What a server cannot do: keys, live refreshes, edits as one types, ribbons between two lists.
// One function for each behaviour, in the files of the folder app; everything else is a link or a form.
// make assets bundles them, this file first.

import { focusMeant, outline } from "./app/ahead.js";
import { answersFind } from "./app/answers.js";
import { boxes } from "./app/boxes.js";
import { carries } from "./app/carries.js";
import { clicksWait } from "./app/clicks.js";
import { showKeys } from "./app/close.js";
import { codes, codesStay } from "./app/codes.js";
import { clips } from "./app/clips.js";
import { depending } from "./app/depending.js";
import { drags } from "./app/drags.js";
import { edits } from "./app/edits.js";
import { fills } from "./app/fills.js";
import { focusStays } from "./app/focus.js";
import { fold, folds } from "./app/folds.js";
import { guards } from "./app/guards.js";
import { helps } from "./app/helps.js";
import { keys } from "./app/keys.js";
import { number, texts } from "./app/lines.js";
import { live } from "./app/live.js";
import { measures } from "./app/measures.js";
import { narrow } from "./app/offers.js";
import { places, remember } from "./app/places.js";
import { refusals } from "./app/refusals.js";
import { ribbons } from "./app/ribbons.js";
import { sources } from "./app/sources.js";
import { trees, twists } from "./app/trees.js";

// What comes is whole at once: no key falls between its being put in and its getting the focus.
htmx.config.defaultSettleDelay = 0;

addEventListener("DOMContentLoaded", () => {
  document.querySelector("#show-keys")?.addEventListener("click", () => showKeys());
  for (const behaviour of [focusMeant, boxes, fills, remember, focusStays, guards, clicksWait, answersFind, narrow, clips, carries, live, outline, depending, edits, keys, sources, drags, twists, trees, places, measures, helps, texts, number, folds, ribbons, codes, codesStay]) behaviour();
  document.fonts.ready.then(ribbons);
  refusals(); // last: what others hold back is not sent
});
document.addEventListener("htmx:after:swap", () => { trees(); places(); measures(); });
document.addEventListener("htmx:after:swap", ribbons);
document.addEventListener("htmx:after:swap", number);
document.addEventListener("htmx:after:swap", codes);
document.addEventListener("htmx:after:swap", fold);
addEventListener("resize", ribbons);
document.addEventListener("scroll", ribbons, true);
