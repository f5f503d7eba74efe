// A tree that scrolls by itself keeps its place when it is drawn anew, and shows what is chosen in it.
const scrolled = new Map();

export function places() {
  for (const tree of document.querySelectorAll("[data-tree]")) {
    const was = scrolled.get(tree.id);
    if (was?.tree === tree) continue;
    if (was) tree.scrollTop = was.top;
    scrolled.set(tree.id, { tree, top: tree.scrollTop });
    tree.querySelector(".sel")?.scrollIntoView({ block: "nearest" });
  }
}

// remember keeps the places of trees as they are scrolled.
export function remember() {
  document.addEventListener("scroll", (e) => {
    if (e.target.matches?.("[data-tree]") && e.target.isConnected) scrolled.set(e.target.id, { tree: e.target, top: e.target.scrollTop });
  }, true);
}
