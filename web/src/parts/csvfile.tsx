// Chooses a CSV file.
export function CsvFile({ onFile }: { onFile: (f: File) => void }) {
  return (
    <input
      type="file"
      accept=".csv,.tsv,.txt,text/csv"
      aria-label="CSV file"
      onChange={(e) => {
        const f = e.target.files?.[0];
        if (f) onFile(f);
      }}
    />
  );
}
