// Shows a point's values beside the pointer. Without scripts the browser shows the same as a title.
const readOut = document.getElementById("read-out");
for (const point of document.querySelectorAll(".point")) {
  const title = point.querySelector("title");
  const text = title.textContent;
  point.addEventListener("pointerenter", () => { title.textContent = ""; readOut.textContent = text; readOut.hidden = false; });
  point.addEventListener("pointerleave", () => { title.textContent = text; readOut.hidden = true; });
  point.addEventListener("pointermove", (event) => {
    const { offsetWidth: w, offsetHeight: h } = readOut;
    readOut.style.left = Math.min(event.clientX + 14, innerWidth - w - 8) + "px";
    readOut.style.top = Math.min(event.clientY + 14, innerHeight - h - 8) + "px";
  });
}
