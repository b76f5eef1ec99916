const rows = document.querySelector("#departures");
const departures = await (await fetch("/departures.json")).json();
const tide = await (await fetch("/tide.json")).json();
document.querySelector("#tide").textContent = `High water at ${tide.place}: ${tide.high_water}`;
for (const { time, to, boat, berth } of departures) {
  const row = rows.insertRow();
  for (const text of [time, to, boat, berth]) row.insertCell().textContent = text;
}
