(most) => {
  // what the accessibility rules are judged on: collected here, judged outside
  const shown = (element) => {
    const box = element.getBoundingClientRect();
    return element.checkVisibility({ opacityProperty: true, visibilityProperty: true }) && box.width > 0 && box.height > 0;
  };
  const fold = (text) => (text || "").replace(/\s+/g, " ").trim().slice(0, 200);
  const byIds = (ids) => ids.split(/\s+/).map((id) => document.getElementById(id)?.textContent || "").join(" ");
  const nameOf = (element) => {
    const named = element.getAttribute("aria-labelledby");
    const labels = [...(element.labels || [])].map((label) => label.textContent).join(" ");
    const inner = /^(INPUT|SELECT|TEXTAREA)$/.test(element.tagName)
      ? (/^(button|submit|reset)$/.test(element.type) ? element.value : element.type === "image" ? element.alt : "")
      : element.innerText + [...element.querySelectorAll("img[alt]")].map((image) => image.alt).join(" ");
    return fold(named ? byIds(named) : element.getAttribute("aria-label") || labels || inner || element.title);
  };
  const describe = (element) => {
    const id = element.id ? "#" + element.id : "";
    return fold(element.tagName.toLowerCase() + id + " " + (element.getAttribute("name") || element.innerText || ""));
  };
  const widgets = "a[href],button,input:not([type=hidden]),select,textarea,[role=button],[role=link],[role=checkbox],[role=switch],[role=tab],[role=option],[tabindex]:not([tabindex='-1'])";
  const controls = [...document.querySelectorAll(widgets)]
    .filter((element) => shown(element) && !element.matches(":disabled"))
    .slice(0, most)
    .map((element, place) => {
      element.__place = place;
      const group = element.closest("[role=radiogroup],[role=listbox],[role=grid],[role=tablist],[role=toolbar],[role=menu],[role=tree]");
      return {
        is: describe(element),
        name: nameOf(element),
        // of a group that arrow keys move about in, the tabulator need come to one only
        group: element.type === "radio" ? "radio " + element.name : group ? "group " + describe(group) : "",
        form: /^(INPUT|SELECT|TEXTAREA)$/.test(element.tagName),
      };
    });
  const backOf = (element) => {
    const layers = [];
    for (let at = element; at; at = at.parentElement) {
      const style = getComputedStyle(at);
      if (style.backgroundImage !== "none") return null;
      layers.push(style.backgroundColor);
      if (/^rgb\(/.test(style.backgroundColor)) break;
    }
    return layers;
  };
  const texts = [];
  const walker = document.createTreeWalker(document.body || document.documentElement, NodeFilter.SHOW_TEXT);
  const known = new Set();
  for (let node = walker.nextNode(); node && texts.length < most; node = walker.nextNode()) {
    const element = node.parentElement;
    if (!node.data.trim() || !element || /^(SCRIPT|STYLE|NOSCRIPT|OPTION)$/.test(element.tagName) || !shown(element)) continue;
    if (element.closest(":disabled,[aria-disabled=true]")) continue;
    const style = getComputedStyle(element), behind = backOf(element);
    const key = [style.color, behind, style.fontSize, style.fontWeight].join("|");
    if (behind === null || known.has(key)) continue;
    known.add(key);
    texts.push({ text: fold(node.data), colour: style.color, behind, size_px: parseFloat(style.fontSize), weight: parseInt(style.fontWeight) });
  }
  const root = document.scrollingElement || document.documentElement;
  return {
    language: document.documentElement.lang || "",
    title: fold(document.title),
    controls,
    texts,
    unnamed_images: [...document.querySelectorAll("img:not([alt]),canvas:not([aria-label]):not([aria-labelledby])")]
      .filter((element) => shown(element) && !(element.tagName === "CANVAS" && fold(element.textContent))).slice(0, 20).map(describe),
    visible_text: fold(document.body ? document.body.innerText : ""),
    scroll_width_px: root.scrollWidth,
    view_width_px: innerWidth,
  };
}
