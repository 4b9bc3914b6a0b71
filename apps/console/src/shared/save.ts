// A file for the person to keep.
export function save(name: string, type: string, text: string | Blob): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(typeof text === "string" ? new Blob([text], { type }) : text);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
