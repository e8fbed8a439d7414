(elements, [asked, most]) => asked.map(([what, place, property]) => {
  // several quantities of the same elements: (elements, [[quantity, place, property] ...]) -> [{value} or {missing} ...]
  const fold = text => String(text ?? "").split(/\s+/).filter(Boolean).join(" ");
  // whether a person can see it: it has a size, lies where the window can be scrolled to, is cut off by nothing, is
  // not transparent, and its words have another colour than their ground
  const seen = element => {
    const box = element.getBoundingClientRect();
    let [left, top, right, bottom] = [box.left + scrollX, box.top + scrollY, box.right + scrollX, box.bottom + scrollY];
    if (right <= 0 || bottom <= 0) return false;
    let ground = null;
    const paint = text => (/^rgba?\(([^)]*)\)$/.exec(text) || [null, "0,0,0,0"])[1].split(/[ ,\/]+/).map(Number);
    const shown = paint(getComputedStyle(element).color);
    let opacity = 1;
    for (let at = element; at; at = at.parentElement) {
      const style = getComputedStyle(at), own = at.getBoundingClientRect();
      opacity *= Number(style.opacity);
      if (/^inset\((50|100)%/.test(style.clipPath)) return false;
      if (style.clip !== "auto" && /^rect\([01]px,? [01]px,? [01]px,? [01]px/.test(style.clip)) return false;
      if (at !== element && at !== document.documentElement && at !== document.body && style.overflow !== "visible") {
        [left, top] = [Math.max(left, own.left + scrollX), Math.max(top, own.top + scrollY)];
        [right, bottom] = [Math.min(right, own.right + scrollX), Math.min(bottom, own.bottom + scrollY)];
      }
      if (at === element && style.overflow !== "visible" && (own.width < 2 || own.height < 2)) return false;
      const colour = paint(style.backgroundColor);
      if (ground === null && style.backgroundImage !== "none") ground = "image";
      if (ground === null && (colour[3] ?? 1) > 0.5) ground = colour;
    }
    if (right - left < 2 || bottom - top < 2 || opacity < 0.05) return false;
    if (!element.innerText || !element.innerText.trim() || ground === "image") return true;
    const own = [...element.childNodes].some(node => node.nodeType === 3 && node.textContent.trim());
    if (!own) return true;
    if ((shown[3] ?? 1) < 0.05 || parseFloat(getComputedStyle(element).fontSize) < 1) return false;
    ground = ground ?? [255, 255, 255];
    return shown.slice(0, 3).some((part, index) => Math.abs(part - ground[index]) > 8);
  };
  const drawn = element => {
    const box = element.getBoundingClientRect();
    return box.width > 0 && box.height > 0 && getComputedStyle(element).visibility === "visible";
  };
  const all = {
    count: found => found.length,
    visible: found => found.slice(0, most).some(seen),
    texts: found => found.slice(0, most).map(element => fold(element.innerText)),
  };
  if (Object.hasOwn(all, what)) return {value: all[what](elements.filter(drawn))};
  const element = elements[place];
  if (!element) return {missing: ""};
  const box = element.getBoundingClientRect();
  const one = {
    text: () => fold(element.innerText),
    before: () => {  // the words that style puts before the element's own
      const content = getComputedStyle(element, "::before").content;
      const parts = content.match(/"(?:[^"\\]|\\.)*"|attr\([^)]*\)/g) || [];
      return fold(parts.map(part => part.startsWith("attr(")
        ? element.getAttribute(part.slice(5, -1).trim()) || "" : JSON.parse(part)).join(""));
    },
    value: () => element.value ?? null,
    checked: () => element.checked ?? element.getAttribute("aria-checked") === "true",
    enabled: () => !element.matches(":disabled") && !element.closest("[aria-disabled=true]"),
    attribute: () => element.getAttribute(property),
    style: () => getComputedStyle(element).getPropertyValue(property),
    focused: () => element === document.activeElement,
    width: () => box.width,
    height: () => box.height,
    inside: () => box.left >= -1 && box.right <= innerWidth + 1,
  };
  return {value: one[what]()};
})
