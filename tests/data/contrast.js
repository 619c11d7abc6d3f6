// The contrast of each text of a page with what lies below it: how many were looked at, and those that have less than
// the 4.5 of WCAG 2.2, 1.4.3 (AA).
(() => {
  const parse = (text) => {
    const numbers = text.match(/[\d.]+/g).map(Number);
    return numbers.length < 4 ? [...numbers, 1] : numbers;
  };
  const over = (top, below) => top.slice(0, 3).map((part, at) => part * top[3] + below[at] * (1 - top[3]));
  const linear = (part) => (part / 255 <= 0.04045 ? part / 255 / 12.92 : ((part / 255 + 0.055) / 1.055) ** 2.4);
  const light = ([red, green, blue]) => 0.2126 * linear(red) + 0.7152 * linear(green) + 0.0722 * linear(blue);
  const ground = (element) => {
    const layers = [];
    for (let each = element; each; each = each.parentElement) {
      layers.unshift(parse(getComputedStyle(each).backgroundColor));
    }
    return layers.reduce((below, layer) => over(layer, below), [255, 255, 255]);
  };
  const found = [];
  let looked = 0;
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walker.nextNode()) {
    const text = walker.currentNode.textContent.trim();
    const element = walker.currentNode.parentElement;
    if (!text || element.closest("script, style, title")) continue;
    const style = getComputedStyle(element);
    const below = ground(element);
    const ink = over(parse(element.closest("svg") ? style.fill : style.color), below);
    const [darker, lighter] = [light(ink), light(below)].sort((one, other) => one - other);
    const ratio = (lighter + 0.05) / (darker + 0.05);
    looked += 1;
    if (ratio < 4.5) found.push([element.tagName, text, ratio]);
  }
  return { looked, found };
})();
