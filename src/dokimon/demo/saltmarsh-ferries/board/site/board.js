const rows = document.querySelector("#departures");
const departures = await (await fetch("/departures.json")).json();
for (const { time, to, boat, berth } of departures) {
  const row = rows.insertRow();
  for (const text of [time, to, boat, berth]) row.insertCell().textContent = text;
}
