/** Gives an object a property of its own, whatever it is called: a column may be called `__proto__`. */
export function setOwn<V>(object: Record<string, V>, name: string, value: V): void {
  if (name === '__proto__')
    Object.defineProperty(object, name, { value, enumerable: true, configurable: true, writable: true });
  else object[name] = value;
}
