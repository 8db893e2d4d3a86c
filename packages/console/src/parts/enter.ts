/** Opens an address that has to be asked for first, in a window that the click itself opens. */
export async function openWindow(ask: () => Promise<string>): Promise<void> {
  const target = window.open('about:blank');
  try {
    const url = await ask();
    if (target) target.location.href = url;
  } catch (error) {
    target?.close();
    throw error;
  }
}
