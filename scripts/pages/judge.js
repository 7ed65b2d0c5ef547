(function () {
  "use strict";
  // parts of a colour: red, green, blue from 0 to 255, and how much it covers.
  function parts(text) {
    var n = text.match(/[\d.]+/g).map(Number);
    if (text.indexOf("color(") === 0) n = n.slice(-4).map(function (v, i) { return i < 3 ? v * 255 : v; });
    return [n[0], n[1], n[2], n.length > 3 ? n[3] : 1];
  }
  function over(top, below) {
    return [0, 1, 2].map(function (i) { return top[i] * top[3] + below[i] * (1 - top[3]); }).concat(1);
  }
  function behind(e) {
    var all = [];
    for (; e; e = e.parentElement) all.push(parts(getComputedStyle(e).backgroundColor));
    return all.reverse().reduce(function (below, top) { return over(top, below); }, [255, 255, 255, 1]);
  }
  function bright(c) {
    var v = c.slice(0, 3).map(function (x) { x /= 255; return x <= 0.04045 ? x / 12.92 : Math.pow((x + 0.055) / 1.055, 2.4); });
    return 0.2126 * v[0] + 0.7152 * v[1] + 0.0722 * v[2];
  }
  function contrast(a, b) {
    var x = bright(a), y = bright(b);
    return (Math.max(x, y) + 0.05) / (Math.min(x, y) + 0.05);
  }
  var wrong = [], looked = 0, least = 99, wide = document.scrollingElement.scrollWidth;
  if (wide > innerWidth) wrong.push("the page is " + wide + " wide");
  document.querySelectorAll("body *").forEach(function (e) {
    var own = Array.prototype.some.call(e.childNodes, function (n) { return n.nodeType === 3 && n.textContent.trim(); });
    var box = e.getBoundingClientRect();
    if (!own || !box.width || e.closest("script, style, [hidden]")) return;
    looked++;
    var style = getComputedStyle(e), ink = e.closest("svg") ? style.fill : style.color, below = behind(e);
    var size = parseFloat(style.fontSize), large = size >= 24 || (size >= 18.66 && style.fontWeight >= 700);
    if (e.closest("svg")) { // on a box of the drawing, or on the page
      var rect = document.querySelector("svg rect");
      if (rect && !e.matches("svg > text.small:first-of-type")) below = parts(getComputedStyle(rect).fill);
    }
    var ratio = contrast(over(parts(ink), below), below);
    least = Math.min(least, ratio);
    if (ratio < (large ? 3 : 4.5)) wrong.push(ratio.toFixed(2) + " to 1: " + e.tagName + " " + e.textContent.trim().slice(0, 40));
    var scrolls = e.closest(".wide");
    if (!scrolls && box.right > innerWidth + 0.5 && style.position !== "absolute" && !e.closest("thead"))
      wrong.push("beyond the right edge: " + e.tagName + " " + e.textContent.trim().slice(0, 40));
  });
  var pre = document.createElement("pre");
  pre.id = "judged";
  pre.textContent = looked + " texts, at least " + least.toFixed(1) + " to 1: " + (wrong.slice(0, 8).join("; ") || "nothing is wrong");
  document.body.appendChild(pre);
})();
