// Before the first paint: day or night, as chosen last, else as the system has it.
(function () {
  var kept = null;
  try {
    kept = localStorage.getItem("theme");
  } catch (e) {
    kept = null;
  }
  var night = kept ? kept === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = night ? "night" : "day";
})();
