// What each kind of rule says of lines.
export const says: Record<string, string> = {
  ignored: 'do not count',
  required: 'have to be there',
  forbidden: 'must not be there',
  'per-device': 'differ from device to device',
  template: 'of a text have to be there',
}
// What a rule did with the lines that it found.
export const did: Record<string, string> = {
  ignored: 'left aside',
  required: 'missing',
  forbidden: 'there that must not be',
  'per-device': "one device's own",
  template: 'missing',
}
