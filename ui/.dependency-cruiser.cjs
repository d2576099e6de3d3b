/** The folders of src, the highest first: each may import from those below it, and from no other. */
const LAYERS = [
  ["shell"],
  ["bring", "start", "views"],
  ["book", "inspector", "map", "trace", "reach"],
  ["policy"],
  ["editor"],
  ["actions"],
  ["workbench"],
  ["marks", "kit"],
  ["state"],
  ["api"],
];

const above = (place) => [...LAYERS.slice(0, place).flat(), ...LAYERS[place]];

/** @type {import("dependency-cruiser").IConfiguration} */
module.exports = {
  forbidden: [
    {
      name: "no-circle",
      severity: "error",
      comment: "Modules that need each other are one module, or need a third.",
      from: {},
      to: { circular: true },
    },
    {
      name: "known-folder",
      severity: "error",
      comment: "A new folder is given its place in LAYERS.",
      from: {},
      to: { path: `^src/(?!(${LAYERS.flat().join("|")})/)[^/]+/` },
    },
    ...LAYERS.flatMap((folders, place) =>
      folders.map((folder) => ({
        name: `${folder}-looks-down`,
        severity: "error",
        comment: "Imports run down: the order of the folders stands in LAYERS.",
        from: { path: `^src/${folder}/` },
        to: {
          path: `^src/(${above(place)
            .filter((other) => other !== folder)
            .join("|")})/`,
        },
      })),
    ),
  ],
  options: {
    doNotFollow: { path: "node_modules" },
    tsPreCompilationDeps: true,
    tsConfig: { fileName: "tsconfig.json" },
  },
};
