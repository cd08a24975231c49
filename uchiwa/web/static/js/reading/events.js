// What happened in a log and when, on the common time: drives, findings, markers and notes.

/** Events of one log in their order; `start` and `end` count from the log's offset. */
export function eventsOf(log) {
  const at = (kind, start, end, words, more, rest = {}) => {
    return { kind, start: start - log.offset, end: end - log.offset, words, more, ...rest };
  };
  const findings = log.findings.flatMap((finding) =>
    finding.spans.map(([start, end]) =>
      at(`finding is-${finding.severity}`, start, end, finding.words, `${finding.severity}, ${finding.rule}`),
    ),
  );
  return [
    ...log.drives.map((drive) => at("drive", drive.start, drive.end, drive.title, drive.note)),
    ...findings,
    ...log.markers.map((moment, number) => at("marker", moment, moment, `marker ${number + 1}`, "")),
    ...log.notes.map((note) => at("note", note.start, note.end, note.text, note.author, { id: note.id })),
  ].sort((a, b) => a.start - b.start || a.end - b.end);
}

/** The event after a moment (`by` > 0) or before it, or undefined. */
export function eventBeside(events, moment, by) {
  if (by > 0) return events.find((event) => event.start > moment + 1e-3);
  return events.filter((event) => event.start < moment - 1e-3).at(-1);
}
