// A drawing kept as a file of its own.

/** Hands a drawing over as an SVG file. What it is drawn in must stand on its parts, since no style sheet goes with it. */
export function saveDrawing(svg: SVGSVGElement, name: string) {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg');
  copy.removeAttribute('style');
  for (const g of copy.querySelectorAll('[tabindex]')) g.removeAttribute('tabindex');
  const url = URL.createObjectURL(new Blob([new XMLSerializer().serializeToString(copy)], { type: 'image/svg+xml' }));
  const a = document.createElement('a');
  a.href = url;
  a.download = `${name.replace(/[^\p{L}\p{N}.-]+/gu, '-')}.svg`;
  a.click();
  setTimeout(() => URL.revokeObjectURL(url));
}
