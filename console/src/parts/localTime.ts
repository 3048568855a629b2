// localTime writes a time as an input of the browser takes it, in the browser's own zone; nothing for none.
export function localTime(at?: string): string | undefined {
  if (!at) return undefined;
  const time = new Date(at);
  return new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}
