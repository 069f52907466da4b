import { defineConfig } from "vitepress";

/** The documents as pages that a browser shows without a service: make site. */
export default defineConfig({
  title: "Bagaglio",
  description: "Moves virtual disks between formats and places, and proves that what arrived is what left.",
  outDir: "../dist/site",
  appearance: false,
  markdown: { html: false },
  ignoreDeadLinks: [/\.\.\//], // what lies in the repository beside the documents
  themeConfig: {
    search: { provider: "local" },
    sidebar: [
      { text: "To begin", items: [page("First steps", "first-steps"), page("When something goes wrong", "troubles")] },
      {
        text: "Each kind of work",
        items: [
          page("Places", "places"),
          page("Jobs", "jobs"),
          page("Machines", "machines"),
          page("While they run", "live"),
          page("Physical disks", "devices"),
        ],
      },
      {
        text: "To run it",
        items: [
          page("Operations", "operations"),
          page("Security", "security"),
          page("After a disaster", "disaster"),
          page("Hosts that run machines", "hosts"),
        ],
      },
      {
        text: "To know more",
        items: [
          page("Formats", "formats"),
          page("API", "api"),
          page("What it costs", "performance"),
          page("Design", "design"),
          page("Contributing", "contributing"),
          page("The simulated host", "standin"),
        ],
      },
    ],
  },
});

function page(text: string, name: string) {
  return { text, link: `/${name}` };
}
