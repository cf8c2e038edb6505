// What each kind of rule says of lines.
export const says: Record<string, string> = {
  noise: 'do not count',
  must: 'have to be there',
  'must-not': 'must not be there',
  differs: 'differ from device to device',
  model: 'of a text have to be there',
}
// What a rule did with the lines that it found.
export const did: Record<string, string> = {
  noise: 'left aside',
  must: 'missing',
  'must-not': 'there that must not be',
  differs: "one device's own",
  model: 'missing',
}
