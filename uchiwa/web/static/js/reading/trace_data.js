// Traces as the server sends them.

/** The server's answer: length of a JSON head (u32), the head, then times and values of each trace as float32. */
export function unpackStrips(buffer) {
  const length = new DataView(buffer).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  let at = 4 + length;
  for (const trace of head.traces) {
    trace.x = new Float32Array(buffer, at, trace.points);
    trace.y = new Float32Array(buffer, at + 4 * trace.points, trace.points);
    at += 8 * trace.points;
  }
  return head;
}

/** Index of the first of an ascending list that is not below a value. */
export function lowerBound(list, value) {
  let low = 0;
  let high = list.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (list[middle] < value) low = middle + 1;
    else high = middle;
  }
  return low;
}
