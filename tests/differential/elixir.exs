# Answers pairs of an Elixir requirement and a version with Elixir's own Version. The pairs hold no quotes, so that every
# second piece between quotes is one of their texts.
answers =
  IO.read(:stdio, :all)
  |> String.split("\"")
  |> Enum.drop(1)
  |> Enum.take_every(2)
  |> Enum.chunk_every(2)
  |> Enum.map(fn [wanted, version] ->
    with {:ok, wanted} <- Version.parse_requirement(wanted), {:ok, version} <- Version.parse(version) do
      to_string(Version.match?(version, wanted))
    else
      :error -> "null"
    end
  end)

IO.puts("[" <> Enum.join(answers, ",") <> "]")
