// Labels shows words about a drawer or an item, which scopes of grants can ask for.
export function Labels({ of: labels }: { of: Record<string, string> }) {
  const list = Object.entries(labels).sort();
  if (list.length === 0) return null;
  return (
    <ul className="flex flex-wrap gap-2" aria-label="Labels">
      {list.map(([key, value]) => (
        <li key={key} className="badge badge-outline badge-sm name">
          {key}={value}
        </li>
      ))}
    </ul>
  );
}
