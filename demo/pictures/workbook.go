package main

import "github.com/xuri/excelize/v2"

// landscape lets a workbook's first sheet print on one page, so that a picture
// shows all of its columns.
func landscape(file string) {
	f, err := excelize.OpenFile(file)
	check(err)
	defer f.Close()
	sheet := f.GetSheetName(0)
	orientation, one, zero, fit := "landscape", 1, 0, true
	check(f.SetPageLayout(sheet, &excelize.PageLayoutOptions{Orientation: &orientation, FitToWidth: &one,
		FitToHeight: &zero}))
	check(f.SetSheetProps(sheet, &excelize.SheetPropsOptions{FitToPage: &fit}))
	check(f.Save())
}
