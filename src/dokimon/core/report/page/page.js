"use strict";
for (const command of document.querySelectorAll("pre.command")) {
  const button = document.createElement("button");
  button.type = "button";
  button.textContent = "copy";
  button.setAttribute("aria-label", "copy the command " + command.textContent.trim());
  button.addEventListener("click", async () => {
    const text = command.querySelector("code").textContent;
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      const area = document.createElement("textarea");
      area.value = text;
      document.body.append(area);
      area.select();
      document.execCommand("copy");
      area.remove();
    }
    button.textContent = "copied";
    setTimeout(() => { button.textContent = "copy"; }, 1500);
  });
  command.after(button);
}
