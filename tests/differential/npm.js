// Answers pairs of an npm range and a version with npm's own `semver`.
const semver = require(process.argv[2] + '/node_modules/semver')
const pairs = JSON.parse(require('fs').readFileSync(0))
const answer = ([range, version]) => (semver.validRange(range) === null ? null : semver.satisfies(version, range))
console.log(JSON.stringify(pairs.map(answer)))
