// Reads [[range, version], ...] from standard input; prints what NuGet.Versioning says of each pair.
// A floating version answers for what it names (FloatRange.Satisfies): that it would let any higher one pass is left aside.
using System.Text.Json;
using NuGet.Versioning;

var pairs = JsonSerializer.Deserialize<string[][]>(Console.In.ReadToEnd())!;
var answers = pairs.Select<string[], bool?>(pair =>
    VersionRange.TryParse(pair[0], out var range) && NuGetVersion.TryParse(pair[1], out var version)
        ? range.IsFloating && range.Float!.MinVersion is not null && !pair[0].StartsWith('[') && !pair[0].StartsWith('(') ? range.Float.Satisfies(version) : range.Satisfies(version)
        : null);
Console.WriteLine(JsonSerializer.Serialize(answers));
