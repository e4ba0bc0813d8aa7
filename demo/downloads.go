package demo

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"path/filepath"
	"time"
)

// zipped packs files as a zip, in order, all of one time.
func zipped(files []file, when time.Time) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		e, err := w.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: when})
		if err == nil {
			_, err = e.Write(f.data)
		}
		if err != nil {
			panic(err) // into memory, with names of our own: cannot fail
		}
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// tarred packs files as a tar.gz.
func tarred(files []file, when time.Time) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, f := range files {
		err := w.WriteHeader(&tar.Header{Name: f.name, Size: int64(len(f.data)), Mode: 0o644, ModTime: when, Typeflag: tar.TypeReg})
		if err == nil {
			_, err = w.Write(f.data)
		}
		if err != nil {
			panic(err) // as above
		}
	}
	if w.Close() != nil || z.Close() != nil {
		panic("memory cannot be written")
	}
	return b.Bytes()
}

func (w *World) download(b *builder, name string, data []byte, when time.Time) {
	b.write(filepath.Join(w.path("downloads"), name), data, when)
}

func (w *World) tidewrackDownloads(b *builder) {
	when := days(4)
	readme := file{"readme.txt", []byte("Put the folder with the number into your captain's folder.\nHave fun!\n")}
	cove := voyage{2, "Quiet Cove", "1.6.2", stranger, on(), 140, days(6), 21}
	w.download(b, "quiet-cove.zip", zipped(append(under("Quiet Cove (all lamps lit)/slot_02", cove.files()), readme), when), when)

	harbour := voyage{2, "Harbour, all lamps lit", "1.6.4", stranger, on("rope-and-tar=0.9.2", "whale-songs=1.0.0"), 301, days(5), 22}
	w.download(b, "finished-harbour.zip", zipped(append(under("finished-harbour/slot_02", harbour.files()), readme), when), when)

	sunken := voyage{5, "Sunken Isles, the way down", "1.6.2", captain, on("sunken-isles=1.1.0"), 55, days(8), 23}
	w.download(b, "sunken-isles.zip", zipped(under("slot_05", sunken.files()), when), when)

	few := voyage{1, "Race, 10 lamps", "1.6.2", captain, on(), 2, days(7), 24}
	many := voyage{1, "Race, 40 lamps", "1.6.2", captain, on(), 2, days(7), 25}
	w.download(b, "lamp-race.zip", zipped(append(under("10 lamps/slot_01", few.files()), under("40 lamps/slot_01", many.files())...), when), when)

	free := voyage{3, "Every Lamp Free", "1.6.2", stranger, on(), 1, days(3), 26}
	w.download(b, "free-lamps.zip", zipped(append(under("free-lamps/slot_03", free.files()), file{"free-lamps/slot_03/unlock.png", program()}), when), when)

	fix := voyage{7, "Harbour Fix", "1.6.2", captain, on(), 1, days(3), 27}
	w.download(b, "harbour-fix.zip", zipped(append(under("slot_07", fix.files()), file{"../../Startup/harbour.bat", []byte("@echo off\r\n")}), when), when)

	half := voyage{4, "Half a Voyage", "1.6.2", captain, on(), 9, days(3), 28}
	files := half.files()
	files[0].data = files[0].data[:len(files[0].data)/2]
	w.download(b, "half-a-voyage.zip", zipped(under("slot_04", files), when), when)
}

func (w *World) brassDownloads(b *builder) {
	when := days(4)
	all := ownOrchards()[0].cogs
	w.download(b, "winter apples by Ada.xml", orchard{"", "Winter Apples", "2.3", all[:5], 5000, days(6), 60}.xml(), when)
	w.download(b, "north-terrace-finished.zip", zipped([]file{{"bay_a.orchard", orchard{"", "North Terrace, finished", "2.4", all, 99999, days(5), 60}.xml()}}, when), when)
	w.download(b, "glass-grafts.tar.gz", tarred([]file{{"glass/bay_e.orchard", orchard{"", "Glass Grafts", "2.2", append([]string{"glass-grafts=0.9.0"}, all...), 700, days(5), 60}.xml()}}, when), when)
	cut := orchard{"", "Late Frost", "2.3", all, 40, days(5), 60}.xml()
	w.download(b, "bay_b.orchard", cut[:len(cut)/2], when)
}
