// Shows the next high water on the front page.
const place = document.getElementById("tide");
if (place) {
  const month = new Date().toISOString().slice(0, 7);
  fetch("tides/" + month + ".json").then(r => r.json()).then(table => {
    const next = table.high_water.find(w => new Date(w.time) > new Date());
    if (next) place.textContent = "Next high water: " + next.time + ", " + next.height_m + " m";
  });
}
