// What a server cannot do: keys, live refreshes, edits as one types, ribbons between two lists.
// One function for each behaviour, in the files of the folder app; everything else is a link or a form.
// make assets puts them together, this file last.

addEventListener("DOMContentLoaded", () => {
  document.querySelector("#show-keys")?.addEventListener("click", () => showKeys());
  for (const behaviour of [focusStays, guards, clicksWait, answersFind, narrow, clips, carries, live, outline, depending, edits, keys, sources, drags, twists, trees, places, helps, texts, number, folds, ribbons]) behaviour();
  document.fonts.ready.then(ribbons);
  refusals(); // last: what others hold back is not sent
});
document.addEventListener("htmx:after:swap", () => { trees(); places(); });
document.addEventListener("htmx:after:swap", ribbons);
document.addEventListener("htmx:after:swap", number);
document.addEventListener("htmx:after:swap", fold);
addEventListener("resize", ribbons);
document.addEventListener("scroll", ribbons, true);
