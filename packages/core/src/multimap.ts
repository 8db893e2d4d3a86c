/** Adds a value to those that a map keeps for a key; takes the same time however many there are. */
export function addTo<K, V>(map: Map<K, V[]>, key: K, value: V): void {
  const values = map.get(key);
  if (values) values.push(value);
  else map.set(key, [value]);
}
