import base from "./playwright.config";

// The pictures of docs/screenshots: the whole demo, with its four weeks of
// history, begun anew.
export default {
  ...base,
  testMatch: "shots.ts",
  webServer: { ...base.webServer, command: "../bin/nivot demo -fresh" },
};
