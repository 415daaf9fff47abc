// Shows a point's values beside the pointer, and elsewhere in a chart those of the place that is pointed
// at. Without scripts the browser shows a point's values as a title.
const readOut = document.getElementById("read-out");

function show(text, event) {
  readOut.textContent = text;
  readOut.hidden = false;
  const { offsetWidth: w, offsetHeight: h } = readOut;
  readOut.style.left = Math.min(event.clientX + 14, innerWidth - w - 8) + "px";
  readOut.style.top = Math.min(event.clientY + 14, innerHeight - h - 8) + "px";
}

for (const point of document.querySelectorAll(".point")) {
  const title = point.querySelector("title");
  const text = title.textContent;
  point.addEventListener("pointerenter", () => { title.textContent = ""; });
  point.addEventListener("pointerleave", () => { title.textContent = text; readOut.hidden = true; });
  point.addEventListener("pointermove", (event) => { show(text, event); event.stopPropagation(); });
}

function value(axis, share) {
  if (axis.rows) return axis.rows[Math.min(axis.rows.length - 1, Math.floor((1 - share) * axis.rows.length))];
  const v = axis.log ? axis.low * (axis.high / axis.low) ** share : axis.low + share * (axis.high - axis.low);
  return `${axis.label}: ${Number((v * axis.times).toPrecision(4))}`;
}

for (const chart of document.querySelectorAll("svg[data-axes]")) {
  const { width, x, panels } = JSON.parse(chart.dataset.axes);
  chart.addEventListener("pointerleave", () => { readOut.hidden = true; });
  chart.addEventListener("pointermove", (event) => {
    const place = chart.getBoundingClientRect();
    const scale = width / place.width;
    const [px, py] = [(event.clientX - place.left) * scale, (event.clientY - place.top) * scale];
    const inside = ({ box: [l, t, r, b] }) => px >= l && px <= r && py >= t && py <= b;
    const panel = panels.find(inside);
    if (!panel) { readOut.hidden = true; return; }
    const [l, t, r, b] = panel.box;
    show(`${value(x, (px - l) / (r - l))}\n${value(panel, (b - py) / (b - t))}`, event);
  });
}
