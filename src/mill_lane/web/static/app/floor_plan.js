// The camera along its path: the plan's wedge follows at once, the address when the hand lets go.
import { visit, withParam } from "./page.js";

function nearest(frames, frame) {
  let k = 0;
  frames.forEach((f, i) => {
    if (Math.abs(f - frame) < Math.abs(frames[k] - frame)) k = i;
  });
  return k;
}

document.addEventListener("alpine:init", () => {
  Alpine.data("scrub", () => ({
    move(event) {
      const frame = Number(event.target.value);
      const { frames, stations } = JSON.parse(this.$root.dataset.track);
      const [x, y, ax, ay, bx, by] = stations[nearest(frames, frame)];
      const wedge = `${x},${y} ${ax},${ay} ${bx},${by}`;
      document.querySelector("[data-wedge]").setAttribute("points", wedge);
      for (const circle of document.querySelectorAll("[data-round]")) {
        circle.setAttribute("cx", x);
        circle.setAttribute("cy", y);
      }
      this.$root.querySelector("output").textContent = frame;
    },
    settle(event) {
      visit(withParam("frame", event.target.value));
    },
  }));
});
